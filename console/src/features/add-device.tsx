// A device with its accounts and its operator, in one form. What was added stays added when a later
// part is refused: the form goes on from there.

import { Plus, Trash2 } from "lucide-react";
import { useState } from "react";
import { useLocation } from "wouter";
import { type Device, api, ifMatch, result } from "../api";
import { Choice, Field, Form, text } from "../parts";
import { atLeast } from "./access-levels";
import { useDeviceTypes } from "./device-types";
import { useDialogues } from "./dialogues";
import { FolderField } from "./folder-field";
import { useFolders } from "./folders";
import { JumpHostFields, useJumpHosts } from "./jump-host";

interface Account {
  /** What tells it from the others while it has no name yet. */
  key: number;
  /** Its identifier, once it was added. */
  added?: string;
}

/** One account of the new device. */
function AccountRow({
  account,
  isOperator,
  choose,
  remove,
}: {
  account: Account;
  isOperator: boolean;
  choose: () => void;
  remove: () => void;
}) {
  const { key, added } = account;
  return (
    <fieldset
      disabled={added !== undefined}
      className="flex flex-col gap-2 rounded-box border border-base-300 p-3"
    >
      <legend className="sr-only">Account {key}</legend>
      <div className="grid gap-2 sm:grid-cols-2">
        <Field label="User name on the device" name={`user ${key}`} required />
        <Field label="Name of the credential" name={`name ${key}`} placeholder="as the user name" />
      </div>
      <Field
        label="Password"
        name={`password ${key}`}
        type="password"
        autoComplete="new-password"
        hint="Left empty, one is generated; the device gets it with the first rotation by the operator."
      />
      <div className="flex items-center justify-between">
        <label className="flex cursor-pointer items-center gap-2">
          <input
            type="checkbox"
            className="checkbox checkbox-sm"
            checked={isOperator}
            onChange={choose}
          />
          Operator: changes the passwords of the others
        </label>
        {added ? (
          <span className="quiet">added</span>
        ) : (
          <button
            type="button"
            className="btn btn-ghost btn-sm btn-square"
            aria-label={`Leave out account ${key}`}
            onClick={remove}
          >
            <Trash2 className="size-4" aria-hidden="true" />
          </button>
        )}
      </div>
    </fieldset>
  );
}

export function AddDevice({
  folder: within,
  main,
  close,
}: {
  /** Where it comes; left out, the form asks. */
  folder?: string;
  /** The main device, to add an account family to it. */
  main?: Device;
  close: () => void;
}) {
  const [, go] = useLocation();
  const [folder, setFolder] = useState(within);
  const [accounts, setAccounts] = useState<Account[]>([]);
  const [operator, setOperator] = useState<number | null>(null);
  const [device, setDevice] = useState<Device>();
  const types = useDeviceTypes();
  const [type, setType] = useState<Device["connector"]>("ssh");
  const chosen = types.data?.find((each) => each.connector === type);
  const dialogues = useDialogues(Boolean(chosen?.instructions));
  const { hosts } = useJumpHosts();
  const level = useFolders().data?.find((each) => each.id === folder)?.level;
  const next = (accounts.at(-1)?.key ?? 0) + 1;
  const submit = async (data: FormData) => {
    if (!folder) throw new Error("Choose a folder.");
    const on =
      device ??
      (await result(
        api.POST("/api/v1/devices", {
          body: {
            folder,
            name: text(data, "name"),
            address: text(data, "address"),
            connector: type,
            ...(main && { family_of: main.id }),
            ...(chosen?.instructions && { dialogue: text(data, "dialogue") || undefined }),
            port: Number(text(data, "port")),
            ...(text(data, "host") && { jump_account: text(data, "account") }),
          },
        }),
      ));
    setDevice(on);
    let operated: string | undefined;
    for (const account of accounts) {
      let { added } = account;
      if (!added) {
        const user = text(data, `user ${account.key}`);
        const password = text(data, `password ${account.key}`);
        const credential = await result(
          api.POST("/api/v1/credentials", {
            body: {
              folder,
              kind: chosen?.account_kind ?? "device-admin",
              name: text(data, `name ${account.key}`) || user,
              fields: { user_name: user },
              device: on.id,
              ...(password && { password }),
            },
          }),
        );
        added = credential.id;
        const id = added;
        setAccounts((was) =>
          was.map((each) => (each.key === account.key ? { ...each, added: id } : each)),
        );
      }
      if (account.key === operator) operated = added;
    }
    if (operated)
      await result(
        api.PATCH("/api/v1/devices/{device}", {
          params: { path: { device: on.id }, header: ifMatch(on.revision) },
          body: { operator: operated },
        }),
      );
    return on;
  };
  return (
    <Form
      label={
        accounts.length > 0
          ? `Add the ${main ? "family" : "device"} and ${accounts.length} of its accounts`
          : `Add the ${main ? "family" : "device"}`
      }
      after={["devices", "credentials", "upkeep", "overview"]}
      submit={async (data) => {
        const on = await submit(data);
        close();
        go(`/devices/${on.id}?tab=identity`);
      }}
    >
      <fieldset disabled={device !== undefined} className="flex flex-col gap-2">
        <legend className="sr-only">Device</legend>
        {!within && <FolderField label="Folder" chosen={setFolder} />}
        <Choice
          label="Type"
          name="type"
          value={type}
          onChange={(event) => setType(event.target.value as Device["connector"])}
          options={(types.data ?? []).map((each): [string, string] => [each.connector, each.label])}
        />
        {chosen?.instructions && (
          <Choice
            label={chosen.instructions === "recipe" ? "Recipe" : "Dialogue"}
            name="dialogue"
            options={(dialogues.data ?? [])
              .filter((dialogue) => dialogue.newest && dialogue.kind === chosen.instructions)
              .map((dialogue): [string, string] => [
                dialogue.id,
                `${dialogue.name} ${dialogue.number}: ${dialogue.title}`,
              ])}
          />
        )}
        <Field label="Name" name="name" required />
        <div className="grid grid-cols-[1fr_7rem] gap-2">
          <Field
            label="Address"
            name="address"
            required
            defaultValue={main?.address}
            hint="A host name or an IP address"
          />
          <Field
            label="Port"
            name="port"
            type="number"
            key={type}
            defaultValue={chosen?.port ?? 22}
            min={1}
            max={65535}
            required
          />
        </div>
        {hosts.length > 0 && atLeast(level, "steward") && (
          <JumpHostFields
            hosts={hosts}
            host={main?.jump_host?.device}
            account={main?.jump_host?.account}
            direct="None: the service reaches the device directly"
          />
        )}
      </fieldset>
      {accounts.map((account) => (
        <AccountRow
          key={account.key}
          account={account}
          isOperator={operator === account.key}
          choose={() => setOperator(operator === account.key ? null : account.key)}
          remove={() => {
            setAccounts(accounts.filter((each) => each !== account));
            if (operator === account.key) setOperator(null);
          }}
        />
      ))}
      <div>
        <button
          type="button"
          className="btn btn-sm"
          onClick={() => setAccounts([...accounts, { key: next }])}
        >
          <Plus className="size-4" aria-hidden="true" />
          Account
        </button>
      </div>
      {chosen && <p className="quiet text-sm">{chosen.needed_rights}</p>}
      <p className="quiet text-sm">
        Next you confirm the device’s identity; until then no password is sent to it.
      </p>
    </Form>
  );
}
