// What a fresh organisation does first: a list that fills itself, and can be dismissed.

import { useQuery } from "@tanstack/react-query";
import { CircleCheck, CircleDashed, X } from "lucide-react";
import { useState } from "react";
import { Link } from "wouter";
import { type Me, api, result, wholeList } from "../api";
import { Card } from "../parts";

export function FirstSteps({ me }: { me: Me }) {
  const [gone, setGone] = useState(localStorage.getItem("first-steps") === "dismissed");
  const sets = me.duties.includes("people") && me.duties.includes("policy");
  const asks = { enabled: sets && !gone };
  const page = { params: { query: { limit: 2 } } };
  const people = useQuery({
    queryKey: ["people", "any"],
    queryFn: () => result(api.GET("/api/v1/people", page)),
    ...asks,
  });
  const folders = useQuery({
    queryKey: ["folders"],
    queryFn: () => wholeList(api.GET("/api/v1/folders")),
    ...asks,
  });
  const credentials = useQuery({
    queryKey: ["credentials", "any"],
    queryFn: () => result(api.GET("/api/v1/credentials", page)),
    ...asks,
  });
  const devices = useQuery({
    queryKey: ["devices", "any"],
    queryFn: () => result(api.GET("/api/v1/devices", page)),
    ...asks,
  });
  const gates = useQuery({
    queryKey: ["gates"],
    queryFn: () => wholeList(api.GET("/api/v1/gates")),
    ...asks,
  });
  const known = [people, folders, credentials, devices, gates].every((query) => query.isSuccess);
  if (!sets || gone || !known) return null;
  const saved = localStorage.getItem("key-backup") === "done";
  const steps: [boolean, string, string, string][] = [
    [saved, "Keep a copy of the root key elsewhere", "Keys", "/settings?tab=keys"],
    [(people.data?.items.length ?? 0) > 1, "Add the people", "Add people", "/people"],
    [(folders.data?.length ?? 0) > 0, "Add folders, as your sites are", "Open the vault", "/vault"],
    [(credentials.data?.items.length ?? 0) > 0, "Bring in what exists", "Import", "/import-export"],
    [(devices.data?.items.length ?? 0) > 0, "Add the first device", "Devices", "/devices"],
    [(gates.data?.length ?? 0) > 0, "Gate what is sensitive", "Open the vault", "/vault"],
  ];
  const left = steps.filter(([done]) => !done).length;
  // The last step alone is nobody's news any more.
  if (left === 0 || (left === 1 && !saved)) return null;
  return (
    <Card
      title="First steps"
      actions={
        <button
          type="button"
          className="btn btn-ghost btn-xs"
          onClick={() => {
            localStorage.setItem("first-steps", "dismissed");
            setGone(true);
          }}
        >
          <X className="size-3.5" aria-hidden="true" />
          Dismiss
        </button>
      }
    >
      <ol className="flex flex-col">
        {steps.map(([done, what, label, to]) => (
          <li key={what} className="flex h-9 items-center gap-2">
            {done ? (
              <CircleCheck className="size-4 text-success" aria-label="done" />
            ) : (
              <CircleDashed className="quiet size-4" aria-label="to do" />
            )}
            <span className={done ? "quiet grow line-through" : "grow"}>{what}</span>
            {!done && (
              <Link href={to} className="btn btn-sm">
                {label}
              </Link>
            )}
          </li>
        ))}
      </ol>
    </Card>
  );
}
