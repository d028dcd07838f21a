// Devices: where they are, how they prove who they are, which passwords go to them, and who changes
// their accounts.

import { useQuery } from "@tanstack/react-query";
import { Pencil, Plus } from "lucide-react";
import { useMemo, useState } from "react";
import { Link } from "wouter";
import {
  type CredentialItem,
  type Device,
  type DeviceIdentity,
  type Me,
  api,
  result,
  all,
  ifMatch,
} from "../api";
import {
  Act,
  Choice,
  CredentialLink,
  Drawer,
  DrawerButton,
  Empty,
  Field,
  Form,
  Lines,
  Page,
  Skeleton,
  State,
  Table,
  Tabs,
  Trouble,
  When,
  text,
} from "../parts";
import { type Asked, RemoteTable, chosenOnly, narrowed } from "../parts/remote-table";
import type { Column } from "../parts/table-state";
import { FolderField } from "./folder-field";
import { AuditRows } from "./audit-rows";
import { atLeast } from "./access-levels";
import { Shifts } from "./access-preview";
import { DeviceTrouble } from "./device-trouble";
import { AddDevice } from "./add-device";
import { useDeviceTypes } from "./device-types";
import { useDialogues } from "./dialogues";
import { FoundAccounts } from "./found-accounts";
import { useFolders } from "./folders";
import { JobRows } from "./job-rows";
import { JumpHostFields, useJumpHosts } from "./jump-host";

const AFTER = ["devices", "upkeep", "overview"];

/** Who changes the passwords of the other accounts. */
interface Operator {
  id: string;
  path: string;
  user_name: string;
}

/** What a credential is called inside of its folder. */
const nameIn = (path: string): string => path.slice(path.lastIndexOf("/") + 1);

function Edit({
  device,
  accounts,
  operator,
  close,
}: {
  device: Device;
  accounts: CredentialItem[];
  operator: Operator | undefined;
  close: () => void;
}) {
  const type = useDeviceTypes().data?.find((each) => each.connector === device.connector);
  const dialogues = useDialogues(Boolean(type?.instructions));
  const [folder, setFolder] = useState<string | undefined>(device.folder);
  // The operator may be an account of another device, such as one that stands before this one.
  const choices = accounts.map(({ id, name, user_name }) => ({ id, name, user_name }));
  if (operator && !choices.some((account) => account.id === operator.id))
    choices.unshift({ ...operator, name: nameIn(operator.path) });
  const submit = (data: FormData) => {
    const typed = {
      name: text(data, "name"),
      address: text(data, "address"),
      port: Number(text(data, "port")),
      platform: text(data, "platform"),
      description: text(data, "description"),
    };
    const moved = typed.address !== device.address || typed.port !== device.port;
    const chosen = text(data, "operator");
    const dialogue = text(data, "dialogue");
    // An unchanged address is not sent: a new one suspends the bindings.
    return result(
      api.PATCH("/api/v1/devices/{device}", {
        params: { path: { device: device.id }, header: ifMatch(device.revision) },
        body: {
          name: typed.name,
          platform: typed.platform,
          description: typed.description,
          ...(folder && folder !== device.folder && { folder }),
          ...(moved && { address: typed.address, port: typed.port }),
          ...(dialogue && dialogue !== device.dialogue && { dialogue }),
          ...(chosen === "none"
            ? { no_operator: true }
            : chosen && chosen !== device.operator && { operator: chosen }),
        },
      }),
    );
  };
  return (
    <>
      <Form label="Save" submit={submit} after={AFTER} done={close}>
        <Field label="Name" name="name" defaultValue={device.name} required />
        <Field
          label="Platform"
          name="platform"
          maxLength={100}
          defaultValue={device.platform}
          hint="What it runs, such as Debian 12."
        />
        <Lines label="Description" name="description" rows={2} defaultValue={device.description} />
        <FolderField label="Folder" start={device.folder} chosen={setFolder} />
        {folder && folder !== device.folder && (
          <div className="rounded-box border border-base-300 p-3">
            <p className="quiet">
              Whoever is a steward there answers for the device. Its accounts stay in their folders.
            </p>
            <Shifts change={{ device: { id: device.id, to: folder } }} />
          </div>
        )}
        <Field
          label="Address"
          name="address"
          defaultValue={device.address}
          required
          hint="A new address or port suspends the bindings until a person who may see the passwords confirms them."
        />
        <Field
          label="Port"
          name="port"
          type="number"
          min={1}
          max={65535}
          defaultValue={device.port}
          required
        />
        {type?.instructions && (
          <Choice
            label={type.instructions === "recipe" ? "Recipe" : "Dialogue"}
            name="dialogue"
            defaultValue={device.dialogue ?? ""}
            key={dialogues.data?.length}
            options={[
              ...(device.dialogue ? [] : [["", "none yet"] as [string, string]]),
              ...(dialogues.data ?? [])
                .filter(
                  (each) =>
                    each.kind === type.instructions && (each.newest || each.id === device.dialogue),
                )
                .map((each): [string, string] => [each.id, `${each.name} ${each.number}`]),
            ]}
          />
        )}
        <Choice
          label="Operator: changes the passwords of the other accounts"
          name="operator"
          defaultValue={device.operator ?? "none"}
          options={[
            ["none", "None: accounts change their own passwords"],
            ...choices.map((account): [string, string] => [
              account.id,
              `${account.name} (${account.user_name})`,
            ]),
          ]}
        />
      </Form>
      <div className="mt-2 border-t border-base-300 pt-2">
        <Act
          label={`Remove ${device.name}`}
          run={() =>
            result(
              api.DELETE("/api/v1/devices/{device}", {
                params: { path: { device: device.id }, header: ifMatch(device.revision) },
              }),
            )
          }
          after={AFTER}
          confirm={`Remove ${device.name}?`}
        />
      </div>
    </>
  );
}

/** The account of an SSH host through which a device is reached. */
function JumpHostForm({ device, close }: { device: Device; close: () => void }) {
  const { hosts, loaded, error } = useJumpHosts(device.id);
  if (!loaded) return <Trouble error={error} />;
  if (hosts.length === 0)
    return <Empty>A jump host is an SSH host that is a device here. There is none yet.</Empty>;
  const submit = (data: FormData) =>
    result(
      api.PATCH("/api/v1/devices/{device}", {
        params: { path: { device: device.id }, header: ifMatch(device.revision) },
        body: { jump_account: text(data, "account") },
      }),
    );
  return (
    <Form label="Save" submit={submit} after={AFTER} done={close}>
      <p className="quiet">The service signs in there and connects from there.</p>
      <JumpHostFields
        hosts={hosts}
        host={device.jump_host?.device}
        account={device.jump_host?.account}
      />
    </Form>
  );
}

/** The way that leads to a device. */
function WayTo({ device }: { device: Device }) {
  const through = device.jump_host;
  const account = device.bindings.find((binding) => binding.role === "jump-host");
  return (
    <section className="mt-4">
      <h3 className="font-semibold">Way to the device</h3>
      <p>
        {through ? (
          <>
            It is reached through{" "}
            {through.device ? (
              <Link href={`/devices/${through.device}`} className="link">
                {through.path}
              </Link>
            ) : (
              "a jump host that you have no access to"
            )}
            {account?.credential_path && (
              <>
                , where <CredentialLink id={account.credential} path={account.credential_path} />{" "}
                signs in as <span className="font-mono">{account.login}</span>
              </>
            )}
            .
          </>
        ) : (
          "The service reaches it directly."
        )}
      </p>
      {atLeast(device.level, "steward") && (
        <div className="mt-2 flex flex-wrap gap-2">
          <DrawerButton label={through ? "Change the jump host" : "Choose a jump host"}>
            {(close) => <JumpHostForm device={device} close={close} />}
          </DrawerButton>
          {through && (
            <Act
              label="Reach it directly"
              run={() =>
                result(
                  api.PATCH("/api/v1/devices/{device}", {
                    params: { path: { device: device.id }, header: ifMatch(device.revision) },
                    body: { no_jump_host: true },
                  }),
                )
              }
              after={AFTER}
              confirm={
                device.connector === "telnet"
                  ? `${device.name} proves no identity: on another way, no password is sent until a person who may see it confirms that. Reach it directly?`
                  : undefined
              }
            />
          )}
        </div>
      )}
    </section>
  );
}

/** What a device must prove before a password is sent to it, and what answers now. */
function Identity({ device, close }: { device: Device; close: () => void }) {
  const [shown, setShown] = useState<DeviceIdentity[]>();
  const confirmed = (identity: DeviceIdentity) =>
    device.identity.some((known) => known.fingerprint === identity.fingerprint);
  const read = async () =>
    setShown(
      (
        await result(
          api.POST("/api/v1/devices/{device}/read-identity", {
            params: { path: { device: device.id } },
          }),
        )
      ).items,
    );
  const byHand = (data: FormData) =>
    result(
      api.PATCH("/api/v1/devices/{device}", {
        params: { path: { device: device.id }, header: ifMatch(device.revision) },
        body: {
          // A certificate goes over several lines; everything else is one.
          identity:
            text(data, "lines").match(
              /-----BEGIN[^-]*-----[^-]*-----END[^-]*-----|[^\n]*\S[^\n]*/g,
            ) ?? [],
        },
      }),
    );
  return (
    <div className="flex flex-col gap-2">
      <p className="quiet max-w-prose">
        {device.connector === "telnet" ? (
          <>
            Telnet shows no identity and encrypts nothing: whoever is on the network between reads
            the passwords, and can take the device’s place. Accept that only where no other way
            leads to the device. The organisation’s settings must allow it.
          </>
        ) : (
          <>
            Compare a fingerprint with the device’s own before you confirm it, on its console:{" "}
            {device.connector === "ssh" || device.connector === "command-line"
              ? "ssh-keygen -l"
              : "the SHA-256 of the public key of its certificate"}
            .
          </>
        )}
      </p>
      {device.identity.length === 0 && (
        <p>The identity is not confirmed yet; no password is sent.</p>
      )}
      <ul>
        {device.identity.map((identity) => (
          <li key={identity.line}>
            {identity.kind === "unproven" ? (
              "A steward has accepted that it proves no identity."
            ) : (
              <>
                <State word="confirmed" /> {identity.kind}{" "}
                <span className="font-mono break-all">{identity.fingerprint}</span>
              </>
            )}
          </li>
        ))}
      </ul>
      <div className="flex flex-wrap gap-2">
        <Act label="Read the identity" run={read} />
        <DrawerButton label="Enter an identity by hand">
          {() => (
            <Form label="Set the identity" submit={byHand} after={AFTER} done={close}>
              <Lines
                label="Host keys, known_hosts lines, SSHFP records or SHA256 fingerprints, one per line; or the certificate of an authority (PEM)"
                name="lines"
                rows={3}
                defaultValue={device.identity.map((identity) => identity.line).join("\n")}
              />
            </Form>
          )}
        </DrawerButton>
      </div>
      {shown && (
        <ul className="flex flex-col gap-1">
          {shown.map((identity) => (
            <li key={identity.line} className="flex flex-wrap items-center gap-2">
              <span>
                answers now: {identity.kind}{" "}
                <span className="font-mono break-all">{identity.fingerprint}</span>
              </span>
              {confirmed(identity) ? (
                <State word="confirmed" />
              ) : (
                <Act
                  label={
                    identity.kind === "unproven"
                      ? "Accept that it proves nothing"
                      : "Confirm this identity"
                  }
                  look="btn-sm btn-primary"
                  run={() =>
                    result(
                      api.PATCH("/api/v1/devices/{device}", {
                        params: { path: { device: device.id }, header: ifMatch(device.revision) },
                        body: { identity: [identity.line] },
                      }),
                    )
                  }
                  after={AFTER}
                  confirm={
                    identity.kind === "unproven"
                      ? `Passwords are sent to whatever answers at ${device.address}, and can be read on the way. Accept that for ${device.name}?`
                      : `Passwords are sent to whatever presents ${identity.fingerprint}. Have you compared it on ${device.name} itself?`
                  }
                />
              )}
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}

function Bindings({ device }: { device: Device }) {
  return (
    <Table
      label={`Passwords that may be sent to ${device.name}`}
      heads={["Credential", "As", "User name", "Confirmed", "State"]}
    >
      {device.bindings.map((binding) => (
        <tr key={`${binding.credential} ${binding.role}`}>
          <td>
            {binding.credential_path ? (
              <CredentialLink id={binding.credential} path={binding.credential_path} />
            ) : (
              "one that you have no access to"
            )}
          </td>
          <td>{binding.role.replace("-", " ")}</td>
          <td>{binding.login}</td>
          <td>
            <When at={binding.confirmed_at} />
          </td>
          <td>
            {binding.suspended ? (
              <>
                <State word="suspended" /> {binding.suspended}
              </>
            ) : (
              <State word="in force" />
            )}
          </td>
        </tr>
      ))}
    </Table>
  );
}

const columns = (labels: Map<string, string>): Column<Device>[] => [
  {
    name: "name",
    head: "Device",
    value: (device) => device.name,
    cell: (device) => (
      <Link href={`/devices/${device.id}`} className="font-semibold hover:underline">
        {device.name}
      </Link>
    ),
  },
  {
    name: "type",
    head: "Type",
    value: (device) => labels.get(device.connector) ?? device.connector,
    word: (value) => labels.get(value) ?? value,
    choices: [...labels.keys()],
    one: true,
  },
  { name: "folder", head: "Folder", value: (device) => device.place },
  {
    name: "address",
    head: "Address",
    value: (device) => `${device.address}:${device.port}`,
    cell: (device) => (
      <span className="font-mono">
        {device.address}:{device.port}
      </span>
    ),
  },
  {
    name: "accounts",
    head: "Accounts",
    value: (device) => device.accounts,
    right: true,
    unfiltered: true,
  },
  {
    name: "identity",
    head: "Identity",
    value: (device) => (device.identity.length > 0 ? "confirmed" : "not confirmed"),
    word: (value) => value.replaceAll("-", " "),
    cell: (device) =>
      device.identity.length > 0 ? (
        <State word="confirmed" />
      ) : (
        <State word={null} none="not confirmed" />
      ),
    choices: ["confirmed", "not-confirmed"],
    one: true,
  },
  {
    name: "state",
    head: "State",
    value: (device) => stateOf(device),
    cell: (device) => <State word={stateOf(device)} />,
    word: (value) => value.replaceAll("-", " "),
    choices: ["paused", "not-paused"],
    one: true,
  },
];

/** What a device is like in one word. */
function stateOf(device: Device): string {
  if (device.paused_at) return "paused";
  return device.bindings.some((binding) => binding.suspended) ? "suspended" : "active";
}

/** The accounts of a device, with the state of each. */
function Accounts({ device, accounts }: { device: Device; accounts: CredentialItem[] }) {
  if (accounts.length === 0)
    return (
      <Empty>
        No account of this device is in the vault yet. Open its folder, add a credential, and set
        this device.
      </Empty>
    );
  return (
    <Table
      label={`Accounts of ${device.name}`}
      heads={["Credential", "User name", "Check", "Gate", ""]}
    >
      {accounts.map((account) => (
        <tr key={account.id}>
          <td>
            <CredentialLink id={account.id} path={`${account.place}/${account.name}`} />
          </td>
          <td className="font-mono">{account.user_name}</td>
          <td>
            <State word={account.check} />
          </td>
          <td>{account.gated ? "gate" : ""}</td>
          <td className="text-right whitespace-nowrap">
            <Link
              href={`/vault/${account.folder}/${account.id}?tab=access`}
              className="link mr-3"
              aria-label={`Who has access to ${account.name}`}
            >
              Who has access
            </Link>
            <Act
              label="Check now"
              of={account.name}
              look="btn-xs"
              run={() =>
                result(
                  api.POST("/api/v1/credentials/{credential}/check", {
                    params: { path: { credential: account.id } },
                  }),
                )
              }
              after={["jobs", "credentials"]}
            />
          </td>
        </tr>
      ))}
    </Table>
  );
}

/** Who changes the accounts of a device, and which passwords may be sent there. */
function OperatorOf({
  device,
  operator,
  edit,
}: {
  device: Device;
  operator: Operator | undefined;
  edit: () => void;
}) {
  const type = useDeviceTypes().data?.find((each) => each.connector === device.connector);
  const { dialogue } = device;
  const about = useQuery({
    queryKey: ["dialogues", dialogue],
    queryFn: () =>
      result(
        api.GET("/api/v1/dialogues/{dialogue}", {
          params: { path: { dialogue: dialogue ?? "" } },
        }),
      ),
    enabled: dialogue !== null,
  });
  return (
    <div className="flex flex-col gap-4">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <p>
          {operator ? (
            <>
              <CredentialLink id={operator.id} path={operator.path} /> signs in as{" "}
              <span className="font-mono">{operator.user_name}</span> and changes the passwords of
              the other accounts.
            </>
          ) : device.operator ? (
            "The operator is a credential that you have no access to."
          ) : (
            "There is no operator: each account changes its own password, with the stored one."
          )}
        </p>
        {atLeast(device.level, "steward") && (
          <button type="button" className="btn btn-sm" onClick={edit}>
            {device.operator ? "Change the operator" : "Choose an operator"}
          </button>
        )}
      </div>
      {type && (
        <div>
          <h3 className="font-semibold">Rights that are needed there</h3>
          <p className="max-w-prose">{type.needed_rights}</p>
          {about.data?.about && <p className="max-w-prose">{about.data.about}</p>}
        </div>
      )}
      <h3 className="font-semibold">Passwords that may be sent here</h3>
      {device.bindings.length > 0 ? (
        <Bindings device={device} />
      ) : (
        <Empty>No password may be sent to this device yet.</Empty>
      )}
    </div>
  );
}

/** What was done with a device. */
function DeviceActivity({ device }: { device: Device }) {
  const events = useQuery({
    queryKey: ["audit", "on", device.id],
    queryFn: () =>
      result(api.GET("/api/v1/audit", { params: { query: { limit: 50, target: device.id } } })),
  });
  if (!events.data) return events.error ? <Trouble error={events.error} /> : <Skeleton />;
  if (events.data.items.length === 0) return <Empty>Nothing has been done yet.</Empty>;
  return <AuditRows events={events.data.items} />;
}

/** The jobs of a device's accounts. */
function DeviceJobs({ device }: { device: Device }) {
  const jobs = useQuery({
    queryKey: ["jobs", "on", device.id],
    queryFn: () =>
      result(api.GET("/api/v1/jobs/table", { params: { query: { on: device.id, limit: 50 } } })),
  });
  if (!jobs.data) return jobs.error ? <Trouble error={jobs.error} /> : <Skeleton />;
  if (jobs.data.items.length === 0) return <Empty>No job has run here yet.</Empty>;
  return (
    <>
      <JobRows jobs={jobs.data.items} />
      {jobs.data.total > jobs.data.items.length && (
        <Link
          href={`/jobs?filter=${encodeURIComponent(new URLSearchParams({ device: device.name }).toString())}`}
          className="link"
        >
          All {jobs.data.total.toLocaleString()} jobs
        </Link>
      )}
    </>
  );
}

/** The other account families on the same machine. */
function Families({ device, add }: { device: Device; add: () => void }) {
  const types = useDeviceTypes();
  return (
    <section aria-labelledby="families" className="mt-6 flex flex-col gap-2">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h3 id="families" className="font-semibold">
          Other account families
        </h3>
        {!device.family_of && atLeast(device.level, "edit") && (
          <button type="button" className="btn btn-sm" onClick={add}>
            <Plus className="size-4" aria-hidden="true" />
            Add an account family
          </button>
        )}
      </div>
      {device.families.length === 0 ? (
        <p className="quiet max-w-prose text-sm">
          Accounts of this machine that are changed in another way, such as those of its web
          interface, form a family with their own type and operator.
        </p>
      ) : (
        <Table
          label={`Other account families of ${device.name}`}
          heads={["Family", "Type", "Accounts"]}
        >
          {device.families.map((family) => (
            <tr key={family.id}>
              <td>
                <Link href={`/devices/${family.id}`} className="link">
                  {family.name}
                </Link>
              </td>
              <td>
                {types.data?.find((each) => each.connector === family.connector)?.label ??
                  family.connector}
              </td>
              <td className="text-right">{family.accounts}</td>
            </tr>
          ))}
        </Table>
      )}
    </section>
  );
}

function DeviceDetail({ me, device }: { me: Me; device: Device }) {
  const [editing, setEditing] = useState(false);
  const [adding, setAdding] = useState(false);
  const on = useQuery({
    queryKey: ["credentials", "on", device.id],
    queryFn: () =>
      all((page) =>
        api.GET("/api/v1/credentials", { params: { query: { ...page, on: device.id } } }),
      ),
  });
  const accounts = on.data ?? [];
  const stewards = atLeast(device.level, "steward");
  const bound = device.bindings.find((binding) => binding.role === "operator");
  const operator: Operator | undefined =
    bound?.credential_path && device.operator
      ? { id: device.operator, path: bound.credential_path, user_name: bound.login }
      : undefined;
  const type = useDeviceTypes().data?.find((each) => each.connector === device.connector);
  return (
    <Page
      title={device.name}
      crumbs={[
        ["Devices", "/devices"],
        [device.place, `/vault/${device.folder}`],
      ]}
      note={
        <>
          {type && `${type.label}, `}
          {device.platform && `${device.platform}, `}
          <span className="font-mono">
            {device.address}:{device.port}
          </span>
          {device.dialogue && (
            <>
              , {type?.instructions ?? "dialogue"}{" "}
              <Link href={`/dialogues/${device.dialogue}`} className="link">
                {device.dialogue_name}
              </Link>
            </>
          )}
          {device.jump_host && (
            <>
              , through{" "}
              {device.jump_host.device ? (
                <Link href={`/devices/${device.jump_host.device}`} className="link">
                  {nameIn(device.jump_host.path)}
                </Link>
              ) : (
                "a jump host"
              )}
            </>
          )}
          , operator:{" "}
          {device.operator ? (
            operator ? (
              <CredentialLink id={operator.id} path={nameIn(operator.path)} />
            ) : (
              "one that you have no access to"
            )
          ) : (
            "none; accounts change their own passwords"
          )}
        </>
      }
      actions={
        <>
          <State word={stateOf(device)} />
          {stewards && (
            <button type="button" className="btn btn-sm" onClick={() => setEditing(true)}>
              <Pencil className="size-4" aria-hidden="true" />
              Edit {device.name}
            </button>
          )}
        </>
      }
    >
      <DeviceTrouble device={device} />
      {device.description && (
        <p className="max-w-prose whitespace-pre-wrap">{device.description}</p>
      )}
      <Drawer title={`Edit ${device.name}`} open={editing} close={() => setEditing(false)}>
        <Edit
          device={device}
          accounts={accounts}
          operator={operator}
          close={() => setEditing(false)}
        />
      </Drawer>
      <Drawer
        title={`Add an account family to ${device.name}`}
        open={adding}
        close={() => setAdding(false)}
      >
        <AddDevice folder={device.folder} main={device} close={() => setAdding(false)} />
      </Drawer>
      <Tabs
        label={device.name}
        tabs={[
          {
            name: "Accounts",
            count: accounts.length,
            show: () => (
              <>
                <Accounts device={device} accounts={accounts} />
                {device.lists_accounts && <FoundAccounts device={device} />}
                <Families device={device} add={() => setAdding(true)} />
              </>
            ),
          },
          {
            name: "Identity",
            show: () => (
              <>
                <Identity device={device} close={() => undefined} />
                <WayTo device={device} />
              </>
            ),
          },
          {
            name: "Operator",
            show: () => (
              <OperatorOf device={device} operator={operator} edit={() => setEditing(true)} />
            ),
          },
          { name: "Upkeep", show: () => <DeviceJobs device={device} /> },
          ...(me.duties.includes("audit") || stewards
            ? [{ name: "Activity", show: () => <DeviceActivity device={device} /> }]
            : []),
        ]}
      />
    </Page>
  );
}

const TABLE = ["devices", "table"];

const part = (asked: Asked, from: number, limit: number) =>
  result(
    api.GET("/api/v1/devices/table", {
      params: {
        query: {
          ...narrowed(asked, {
            name: "name",
            type: "kind",
            folder: "folder",
            address: "address",
            identity: "identity",
            state: "state",
          }),
          sort: asked.sort,
          from,
          limit,
        },
      },
    }),
  );

function OneDevice({ me, id }: { me: Me; id: string }) {
  const device = useQuery({
    queryKey: ["devices", id],
    queryFn: () =>
      result(api.GET("/api/v1/devices/{device}", { params: { path: { device: id } } })),
  });
  if (device.data) return <DeviceDetail key={id} me={me} device={device.data} />;
  return (
    <Page title="Device" crumbs={[["Devices", "/devices"]]}>
      {device.error ? <Trouble error={device.error} /> : <Skeleton />}
    </Page>
  );
}

export function DevicesPage({ me, device }: { me: Me; device: string | undefined }) {
  const types = useDeviceTypes();
  const shown = useMemo(
    () => columns(new Map(types.data?.map((type) => [type.connector, type.label]))),
    [types.data],
  );
  const adds = useFolders(!device).data?.some((each) => atLeast(each.level, "edit"));
  if (device) return <OneDevice me={me} id={device} />;
  const add = adds && (
    <DrawerButton
      label="Add a device"
      icon={<Plus className="size-4" aria-hidden="true" />}
      look="btn-sm btn-primary"
    >
      {(close) => <AddDevice close={close} />}
    </DrawerButton>
  );
  return (
    <Page
      title="Devices"
      note="Hosts and servers whose accounts are checked and rotated."
      actions={add}
    >
      <RemoteTable
        label="Devices"
        columns={shown}
        id={(each) => each.id}
        name={TABLE}
        fetch={part}
        values={chosenOnly}
        first="name"
        file="devices.csv"
        empty={<Empty>There are no devices yet.</Empty>}
      />
    </Page>
  );
}
