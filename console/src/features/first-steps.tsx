// What a fresh organisation does first: a list that fills itself, and can be dismissed.

import { useQuery } from "@tanstack/react-query";
import { X } from "lucide-react";
import { useState } from "react";
import { type Me, api, result, wholeList } from "../api";
import { Card, type Step, Steps } from "../parts";
import { useFolders } from "./folders";

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
  const folders = useFolders(asks.enabled);
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
  const steps: Step[] = [
    {
      done: saved,
      what: "Keep a copy of the root key elsewhere",
      label: "Keys",
      to: "/settings?tab=keys",
    },
    {
      done: (people.data?.items.length ?? 0) > 1,
      what: "Add the people",
      label: "Add people",
      to: "/people",
    },
    {
      done: (folders.data?.length ?? 0) > 0,
      what: "Add folders, as your sites are",
      label: "Open the vault",
      to: "/vault",
    },
    {
      done: (credentials.data?.items.length ?? 0) > 0,
      what: "Bring in what exists",
      label: "Import",
      to: "/import-export",
    },
    {
      done: (devices.data?.items.length ?? 0) > 0,
      what: "Add the first device",
      label: "Devices",
      to: "/devices",
    },
    {
      done: (gates.data?.length ?? 0) > 0,
      what: "Gate what is sensitive",
      label: "Open the vault",
      to: "/vault",
    },
  ];
  const left = steps.filter(({ done }) => !done).length;
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
      <Steps steps={steps} />
    </Card>
  );
}
