// The history of a credential's secrets: look one up, compare, put one back.

import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Credential, type Revealed, type Version, api, result, wholeList } from "../api";
import { Ask, Empty, Field, State, Table, Trouble, When } from "../parts";
import { Shown } from "./reveal";
import { atLeast } from "./access-levels";

export function History({ it, label }: { it: Credential; label: (field: string) => string }) {
  const [shown, setShown] = useState<Revealed[]>([]);
  const [back, setBack] = useState<Version | null>(null);
  const [reason, setReason] = useState("");
  const versions = useQuery({
    queryKey: ["history", it.id],
    queryFn: () =>
      wholeList(
        api.GET("/api/v1/credentials/{credential}/history", {
          params: { path: { credential: it.id } },
        }),
      ),
  });
  const look = useMutation({
    mutationFn: (version: Version) =>
      result(
        api.POST("/api/v1/credentials/{credential}/reveal", {
          params: { path: { credential: it.id } },
          body: {
            field: version.field,
            version: version.number,
          },
        }),
      ),
    // Two at a time, so that they can be compared.
    onSuccess: (found) =>
      setShown((before) => [
        ...before
          .filter((each) => each.field === found.field && each.version !== found.version)
          .slice(-1),
        found,
      ]),
  });
  const hide = (gone: Revealed) => () =>
    setShown((before) => before.filter((each) => each !== gone));
  if (versions.data?.length === 0) return <Empty>There are no secret values yet.</Empty>;
  return (
    <>
      <Trouble error={versions.error ?? look.error} />
      {shown.map((each) => (
        <div key={`${each.field} ${each.version}`}>
          <p>
            {label(each.field)}, version {each.version}:
            {shown.length === 2 && " differences are underlined"}
          </p>
          <Shown shown={each} hide={hide(each)} other={shown.find((one) => one !== each)?.value} />
        </div>
      ))}
      {back && (
        <Ask
          title={`Restore version ${back.number} of “${label(back.field)}”?`}
          label="Restore value"
          after={["credential", "history", "credentials"]}
          close={() => setBack(null)}
          run={() =>
            result(
              api.POST("/api/v1/credentials/{credential}/restore", {
                params: { path: { credential: it.id } },
                body: {
                  field: back.field,
                  version: back.number,
                  reason,
                },
              }),
            )
          }
        >
          <p>
            It becomes the current value in the vault; what is current now stays in the history.
            {it.device &&
              " The device is not changed: if its password differs, the next check reports it."}
          </p>
          <Field
            label="Reason"
            name="reason"
            value={reason}
            onChange={(event) => setReason(event.target.value)}
          />
        </Ask>
      )}
      <Table label="Versions" heads={["Field", "Version", "State", "Made", "How", "Actions"]}>
        {versions.data?.map((version) => (
          <tr key={`${version.field} ${version.number}`}>
            <td>{label(version.field)}</td>
            <td className="tabular-nums">{version.number}</td>
            <td>
              <State word={version.state} />
            </td>
            <td>
              <When at={version.made_at} />
            </td>
            <td>
              {version.made_how} by {version.made_by ?? "upkeep"}
              {version.reason && <p className="quiet">{version.reason}</p>}
            </td>
            <td className="whitespace-nowrap">
              <button type="button" className="btn btn-xs" onClick={() => look.mutate(version)}>
                Reveal
              </button>{" "}
              {version.state !== "current" &&
                version.state !== "candidate" &&
                atLeast(it.level, "edit") && (
                  <button type="button" className="btn btn-xs" onClick={() => setBack(version)}>
                    Restore
                  </button>
                )}
            </td>
          </tr>
        ))}
      </Table>
      <p className="quiet text-sm">
        Reveal two versions to compare them; every reveal is recorded.
      </p>
    </>
  );
}
