// The choice of the account through which a device is reached.

import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { all, api } from "../api";
import { Choice } from "../parts";

/** The hosts that can be jump hosts; for a device, all but itself. */
export function useJumpHosts(device?: string) {
  const devices = useQuery({
    queryKey: ["devices"],
    queryFn: () => all((page) => api.GET("/api/v1/devices", { params: { query: page } })),
  });
  const hosts = (devices.data ?? []).filter(
    (each) => each.connector === "ssh" && each.id !== device && !each.jump_host,
  );
  return { hosts, loaded: devices.data !== undefined, error: devices.error };
}

/** A jump host, and its account in the field `account`. */
export function JumpHostFields({
  hosts,
  host: was,
  account,
  direct,
}: {
  hosts: ReturnType<typeof useJumpHosts>["hosts"];
  host?: string | null | undefined;
  account?: string | null | undefined;
  /** What the choice of none is called, where there may be none. */
  direct?: string;
}) {
  const [chosen, setChosen] = useState(was ?? "");
  const host = chosen || (direct ? "" : (hosts[0]?.id ?? ""));
  const accounts = useQuery({
    queryKey: ["credentials", "on", host],
    queryFn: () =>
      all((page) => api.GET("/api/v1/credentials", { params: { query: { ...page, on: host } } })),
    enabled: host !== "",
  });
  return (
    <>
      <Choice
        label="Jump host"
        name="host"
        value={host}
        onChange={(event) => setChosen(event.target.value)}
        options={[
          ...(direct ? [["", direct] as [string, string]] : []),
          ...hosts.map((each): [string, string] => [each.id, `${each.place}/${each.name}`]),
        ]}
      />
      {host && (
        <Choice
          label="Account that signs in there"
          name="account"
          key={`${host} ${accounts.data?.length}`}
          defaultValue={account ?? undefined}
          required
          hint="Only an account whose password you may see. Each use is in its log."
          options={(accounts.data ?? []).map((each): [string, string] => [
            each.id,
            `${each.name} (${each.user_name})`,
          ])}
        />
      )}
    </>
  );
}
