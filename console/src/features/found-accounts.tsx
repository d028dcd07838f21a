// The accounts that a device says it has, and how those that the vault does not have come into it.

import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo } from "react";
import { type Device, type DeviceAccount, Problem, api, result } from "../api";
import {
  Act,
  Ago,
  CredentialLink,
  DrawerButton,
  Empty,
  Form,
  State,
  Trouble,
  When,
  text,
  told,
} from "../parts";
import { DataTable } from "../parts/data-table";
import type { Column } from "../parts/table-state";
import { FolderField } from "./folder-field";
import { useDeviceTypes } from "./device-types";

const yesNo = (value: boolean | null) => (value === null ? "" : value ? "yes" : "no");

const COLUMNS: Column<DeviceAccount>[] = [
  {
    name: "login",
    head: "Account",
    value: (account) => account.login,
    cell: (account) => <span className="font-mono">{account.login}</span>,
  },
  {
    name: "privileged",
    head: "Privileged",
    value: (account) => account.privileged ?? "",
    cell: (account) =>
      account.privileged && (
        <span>
          <State word="privileged" /> <span className="quiet">{account.privileged}</span>
        </span>
      ),
  },
  {
    name: "signs-in",
    head: "Signs in",
    value: (account) => yesNo(account.signs_in),
    choices: ["yes", "no"],
  },
  {
    name: "locked",
    head: "Locked",
    value: (account) => yesNo(account.locked),
    choices: ["yes", "no"],
  },
  {
    name: "password-set",
    head: "Password set",
    value: (account) => account.password_set_at ?? "",
    cell: (account) => account.password_set_at && <Ago at={account.password_set_at} />,
    unfiltered: true,
  },
  {
    name: "signed-in",
    head: "Last sign-in",
    value: (account) => account.signed_in_at ?? "",
    cell: (account) => account.signed_in_at && <Ago at={account.signed_in_at} />,
    unfiltered: true,
  },
  {
    name: "groups",
    head: "Groups",
    value: (account) => account.groups.join(", "),
    extra: true,
  },
  {
    name: "vault",
    head: "In the vault",
    value: (account) => yesNo(account.in_vault),
    choices: ["yes", "no"],
    cell: (account) =>
      account.credential ? (
        <CredentialLink id={account.credential} path={account.credential_path} />
      ) : account.in_vault ? (
        "yes; you have no access to it"
      ) : (
        "no"
      ),
  },
];

/** Makes a credential of each account, and has the operator give each a new password. */
function AddToVault({
  device,
  chosen,
  done,
}: {
  device: Device;
  chosen: DeviceAccount[];
  done: () => void;
}) {
  const kind = useDeviceTypes().data?.find(
    (each) => each.connector === device.connector,
  )?.account_kind;
  const submit = async (data: FormData) => {
    const problems: string[] = [];
    for (const account of chosen) {
      try {
        // One after the other: each takes the same lock.
        // oxlint-disable-next-line no-await-in-loop
        const made = await result(
          api.POST("/api/v1/credentials", {
            body: {
              folder: text(data, "folder"),
              kind: kind ?? "device-admin",
              name: account.login,
              fields: { user_name: account.login },
              device: device.id,
            },
          }),
        );
        // oxlint-disable-next-line no-await-in-loop
        await result(
          api.POST("/api/v1/credentials/{credential}/rotate", {
            params: { path: { credential: made.id } },
            body: { method: "operator" },
          }),
        );
      } catch (error) {
        problems.push(`${account.login}: ${error instanceof Error ? error.message : error}`);
      }
    }
    const good = chosen.length - problems.length;
    told(
      problems.length > 0
        ? `${good} added. ${problems.join(" ")}`
        : `${good} added; their passwords are being changed.`,
    );
  };
  return (
    <Form
      label={`Add ${chosen.length} to the vault`}
      submit={submit}
      after={["devices", "credentials", "jobs"]}
      done={done}
    >
      <p>
        The operator gives {chosen.length === 1 ? "the account" : "each account"} a new password,
        which the vault has from then on. Programs and people that use the present one stop working
        until they fetch the new one.
      </p>
      <ul className="font-mono">
        {chosen.map((account) => (
          <li key={account.login}>{account.login}</li>
        ))}
      </ul>
      <FolderField label="Folder of the credentials" start={device.folder} />
    </Form>
  );
}

export function FoundAccounts({ device }: { device: Device }) {
  const client = useQueryClient();
  const key = ["devices", device.id, "accounts"];
  const found = useQuery({
    queryKey: key,
    queryFn: () =>
      result(
        api.GET("/api/v1/devices/{device}/accounts", {
          params: { path: { device: device.id } },
        }),
      ),
    refetchInterval: (query) =>
      query.state.data?.state === "queued" || query.state.data?.state === "running" ? 1500 : false,
  });
  const { data } = found;
  const reading = data?.state === "queued" || data?.state === "running";
  // Whoever watched the reading hears that it has ended.
  useEffect(() => {
    if (data?.state === "done") void client.invalidateQueries({ queryKey: ["jobs"] });
  }, [client, data?.state]);
  // Accounts that can sign in come first, the privileged ones at the top.
  const rows = useMemo(() => {
    const weight = (account: DeviceAccount) =>
      (account.signs_in ? 2 : 0) + (account.privileged === null ? 0 : 1);
    return data?.items.toSorted((a, b) => weight(b) - weight(a));
  }, [data?.items]);
  const read = (
    <Act
      label={reading ? "Reading…" : "Read the accounts"}
      of={device.name}
      look="btn-sm"
      run={() =>
        result(
          api.POST("/api/v1/devices/{device}/read-accounts", {
            params: { path: { device: device.id } },
          }),
        )
      }
      after={key}
    />
  );
  // What a device says is for its stewards.
  if (found.error instanceof Problem && found.error.status === 403) return null;
  return (
    <section aria-label={`Accounts that ${device.name} has`} className="mt-6 flex flex-col gap-2">
      <div className="flex flex-wrap items-center justify-between gap-2">
        <div>
          <h3 className="font-semibold">On the device</h3>
          {data?.at && data.state === "done" && (
            <p className="quiet">
              {data.message}, read <When at={data.at} />
            </p>
          )}
        </div>
        {device.operator && read}
      </div>
      {data?.state === "failed" && (
        <p role="alert">
          <State word="failed" /> The accounts could not be read: {data.message}
        </p>
      )}
      {found.error ? (
        <Trouble error={found.error} />
      ) : (
        <DataTable
          label={`Accounts that ${device.name} has`}
          query={found as never}
          rows={rows}
          columns={COLUMNS}
          id={(account) => account.login}
          part="found"
          file="accounts-on-device.csv"
          bulk={(chosen, clear) => {
            const missing = chosen.filter((account) => !account.in_vault);
            if (missing.length === 0) return <span>All of these are in the vault.</span>;
            return (
              <DrawerButton
                label={`Add ${missing.length} to the vault`}
                title={`Add accounts of ${device.name} to the vault`}
                look="btn-sm btn-primary"
              >
                {(close) => (
                  <AddToVault
                    device={device}
                    chosen={missing}
                    done={() => {
                      close();
                      clear();
                    }}
                  />
                )}
              </DrawerButton>
            );
          }}
          empty={
            <Empty>
              {device.operator
                ? "Nobody has read which accounts there are. The operator can: what it finds is listed here, and what the vault does not have can be added to it."
                : "An operator reads which accounts there are. Choose one under Operator."}
            </Empty>
          }
        />
      )}
    </section>
  );
}
