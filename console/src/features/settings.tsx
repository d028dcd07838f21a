// What the organisation has set for everybody, and its own kinds of credentials.

import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import {
  type Kind,
  type KindField,
  type Me,
  type Settings,
  type FieldType,
  api,
  result,
  wholeList,
  ifMatch,
} from "../api";
import {
  Act,
  Card,
  Choice,
  DrawerButton,
  Empty,
  Field,
  Form,
  KindIcon,
  Lines,
  Page,
  type Tab,
  Tabs,
  text,
  Trouble,
} from "../parts";
import { TYPES } from "./credential-fields";

const LABELS: Record<string, string> = {
  bin_days: "Bin retention (days, 0: unlimited)",
  old_days: "Old after (days, 0: never)",
  expires_soon_days: "Warn before expiry (days)",
  weak_below: "Weak below strength (0–4)",
  attachment_mib: "Maximum attachment size (MiB)",
  attachments_total_mib: "Total attachment size (MiB)",
  hide_seconds: "Hide a revealed secret after (seconds)",
  clipboard_seconds: "Clear the clipboard after (seconds)",
  only_own_kinds: "Allow new credentials of the organisation's own kinds only",
  personal_folders: "People may keep personal folders",
  exports: "People may export what they may see, encrypted",
  adds_at_top: "Anyone may add top-level folders",
  shares: "Stewards may grant access without the duty “access”",
  connect_to:
    "Allowed device networks, one per line with ports, such as 10.20.0.0/16 22 (empty: all but this machine and link-local addresses)",
  trust_first_contact:
    "Trust devices on first contact: passwords are sent to a device before its identity is confirmed",
  unproven_devices:
    "Allow devices that prove no identity, as over Telnet, where a steward of the device accepts it",
  two_people_gates: "Two people: weakening or removing a gate",
  two_people_duties: "Two people: giving duties",
  two_people_passwords:
    "Two people: resetting the password of a person with duties, stewardship or approvals",
  two_people_clients: "Two people: renewing the secret of a client",
  two_people_groups: "Two people: joining a group that brings stewardship or approvals",
  two_people_settings:
    "Two people: turning one of these off, trusting first contact, or allowing devices that prove no identity",
  independent_approvers:
    "Approvers do not decide requests of the person who set their sign-in password",
  discoverable_names:
    "Credentials are discoverable: people see the names of those that they have no access to, and may request it",
};

/** Settings that belong together; what is in none of them comes last. */
const SECTIONS: [string, string[]][] = [
  [
    "What people may do",
    [
      "personal_folders",
      "exports",
      "adds_at_top",
      "shares",
      "discoverable_names",
      "only_own_kinds",
    ],
  ],
  ["Acts that need two people", []],
  ["Passwords on the screen", ["hide_seconds", "clipboard_seconds"]],
  ["Findings", ["old_days", "expires_soon_days", "weak_below"]],
  ["What is kept", ["bin_days", "attachment_mib", "attachments_total_mib"]],
  ["Devices", ["trust_first_contact", "unproven_devices", "connect_to"]],
];

const inSection = (section: string, listed: string[], name: string) =>
  section === "Acts that need two people"
    ? name.startsWith("two_people") || name === "independent_approvers"
    : listed.includes(name);

type SettingValue = Settings["settings"][keyof Settings["settings"]];

function Setting({ name, value }: { name: string; value: SettingValue }) {
  const label = LABELS[name] ?? name;
  if (typeof value === "boolean")
    return (
      <label className="flex items-start gap-2">
        <input
          type="checkbox"
          name={name}
          defaultChecked={value}
          className="checkbox checkbox-xs mt-0.5"
        />
        {label.replace(/^Two people: (.)/, (_, first: string) => first.toUpperCase())}
      </label>
    );
  if (Array.isArray(value))
    return <Lines label={label} name={name} rows={3} defaultValue={value.join("\n")} />;
  return (
    <Field label={label} name={name} type="number" min={0} defaultValue={String(value)} required />
  );
}

function SettingsCard({ me }: { me: Me }) {
  const settings = useQuery({
    queryKey: ["settings"],
    queryFn: () => result(api.GET("/api/v1/settings")),
  });
  const may = me.duties.includes("policy");
  const present = settings.data;
  if (!present) return <Trouble error={settings.error} />;
  const every = Object.entries(present.settings);
  const sections = SECTIONS.map(
    ([section, listed]) =>
      [section, every.filter(([name]) => inSection(section, listed, name))] as const,
  );
  const other = every.filter(([name]) => !sections.some(([, of]) => of.some(([n]) => n === name)));
  if (other.length > 0) sections.push(["Other", other]);
  const submit = (data: FormData) => {
    const body = Object.fromEntries(
      every.map(([name, value]) => [
        name,
        typeof value === "boolean"
          ? data.get(name) === "on"
          : Array.isArray(value)
            ? text(data, name)
                .split("\n")
                .filter((line) => line.trim())
            : Number(text(data, name)),
      ]),
    ) as Settings["settings"];
    return result(
      api.PUT("/api/v1/settings", { params: { header: ifMatch(present.revision) }, body }),
    );
  };
  return (
    <Card title="For everyone">
      {!may && <p className="quiet">Changing this needs the duty “policy”.</p>}
      <Form
        key={present.revision}
        label="Save the settings"
        submit={submit}
        after={["settings", "kinds", "personal", "credentials"]}
      >
        <fieldset disabled={!may}>
          <legend className="sr-only">Settings</legend>
          <div className="grid items-start gap-x-8 gap-y-4 lg:grid-cols-2">
            {sections.map(([section, names]) => (
              <fieldset key={section} className="flex min-w-0 flex-col gap-1.5">
                <legend className="mb-1.5 font-semibold">{section}</legend>
                {names.map(([name, value]) => (
                  <Setting key={name} name={name} value={value} />
                ))}
              </fieldset>
            ))}
          </div>
        </fieldset>
      </Form>
    </Card>
  );
}

function KindForm({ present, close }: { present?: Kind; close: () => void }) {
  const [fields, setFields] = useState<KindField[]>(
    present?.fields ?? [{ name: "password", label: "Password", holds: "secret", required: true }],
  );
  const change = (at: number, part: Partial<KindField>) =>
    setFields(fields.map((field, n) => (n === at ? { ...field, ...part } : field)));
  const swap = (at: number) =>
    setFields(
      fields.map(
        (field, n) => (n === at ? fields[at - 1] : n === at - 1 ? fields[at] : field) ?? field,
      ),
    );
  const submit = (data: FormData) => {
    const body = { label: text(data, "label"), generates: data.get("generates") === "on", fields };
    return present
      ? result(
          api.PATCH("/api/v1/kinds/{name}", {
            params: { path: { name: present.name }, header: ifMatch(present.revision) },
            body,
          }),
        )
      : result(api.POST("/api/v1/kinds", { body: { ...body, name: text(data, "name") } }));
  };
  return (
    <Form label={present ? "Save kind" : "Add kind"} submit={submit} after={["kinds"]} done={close}>
      <Field label="Label" name="label" defaultValue={present?.label} required />
      {!present && (
        <Field
          label="Name in the interface"
          name="name"
          hint="Lower-case letters, digits and hyphens."
          required
        />
      )}
      <ol className="flex flex-col gap-2">
        {fields.map((field, at) => (
          // A field may be renamed while it is typed: its place is its identity.
          // oxlint-disable-next-line no-array-index-key
          <li key={at} className="rounded-box border border-base-300 bg-base-100 p-2">
            <div className="grid gap-2 sm:grid-cols-2">
              <Field
                label={`Label of field ${at + 1}`}
                name=""
                value={field.label}
                onChange={(event) => change(at, { label: event.target.value })}
              />
              <Field
                label={`Name of field ${at + 1}`}
                name=""
                value={field.name}
                onChange={(event) => change(at, { name: event.target.value })}
              />
              <Choice
                label={`Type of field ${at + 1}`}
                name=""
                value={field.holds}
                onChange={(event) => change(at, { holds: event.target.value as FieldType })}
                options={TYPES}
              />
              <Field
                label={`Help for field ${at + 1}`}
                name=""
                value={field.help ?? ""}
                onChange={(event) => change(at, { help: event.target.value })}
              />
            </div>
            <label>
              <input
                type="checkbox"
                checked={field.required}
                onChange={(event) => change(at, { required: event.target.checked })}
                className="checkbox checkbox-xs"
              />{" "}
              required
            </label>{" "}
            {at > 0 && (
              <button type="button" className="btn btn-xs" onClick={() => swap(at)}>
                Move field {at + 1} up
              </button>
            )}{" "}
            <button
              type="button"
              className="btn btn-xs"
              onClick={() => setFields(fields.filter((_, n) => n !== at))}
            >
              Drop field {at + 1}
            </button>
          </li>
        ))}
      </ol>
      <button
        type="button"
        className="btn btn-sm self-start"
        onClick={() =>
          setFields([
            ...fields,
            { name: `field_${fields.length + 1}`, label: "", holds: "text", required: false },
          ])
        }
      >
        Add field
      </button>
      <label>
        <input
          type="checkbox"
          name="generates"
          defaultChecked={present?.generates ?? true}
          className="checkbox checkbox-xs"
        />{" "}
        Generate the field “password” when none is typed
      </label>
    </Form>
  );
}

/** The way out when something is wrong: everything closes, and only the passphrase opens it. */
function LockVault() {
  const close = async (data: FormData) => {
    await result(api.POST("/api/v1/lock", { body: { reason: text(data, "reason") } }));
    window.location.assign("/");
  };
  return (
    <Card title="Lock the vault">
      <p className="quiet">
        Locks the vault on all services at once: sign-in, secrets and jobs stop until an operator
        unlocks each service with the root key's passphrase.
      </p>
      <DrawerButton label="Lock">
        {() => (
          <Form label="Lock the vault" submit={close}>
            <Field label="Reason" name="reason" required />
          </Form>
        )}
      </DrawerButton>
    </Card>
  );
}

/** The keys that everything is sealed under, and changing them while the services run. */
function KeysCard() {
  const keys = useQuery({
    queryKey: ["keys"],
    queryFn: () => result(api.GET("/api/v1/keys")),
    refetchInterval: 5000,
  });
  const seen = keys.data;
  const changeRoot = (data: FormData) =>
    result(
      api.POST("/api/v1/keys/root", {
        body: {
          passphrase: text(data, "passphrase"),
          new_passphrase: text(data, "new_passphrase"),
          reason: text(data, "reason"),
        },
      }),
    );
  const changePassphrase = (data: FormData) =>
    result(
      api.POST("/api/v1/keys/root/passphrase", {
        body: {
          passphrase: text(data, "passphrase"),
          new_passphrase: text(data, "new_passphrase"),
          reason: text(data, "reason"),
        },
      }),
    );
  return (
    <Card title="Keys">
      <Trouble error={keys.error} />
      {seen && (
        <>
          <p>
            Root key <code>{seen.root_key}</code>
            <span className="quiet">, which protects the organisation's key</span>
          </p>
          <p>
            Organisation key number {seen.organisation_key}
            {typeof seen.left === "number" && (
              <span className="quiet">
                ;{" "}
                {seen.left === 0
                  ? "the old key is being retired"
                  : `${seen.left} data keys still use the old one`}
              </span>
            )}
          </p>
          <div className="mt-3 flex flex-wrap gap-2">
            {seen.next_root_key ? (
              <div className="mt-2">
                <p>
                  The next root key <code>{seen.next_root_key}</code> is prepared. Copy
                  root-key.next.json into the folder of each other service, unlock it there with the
                  new passphrase, and keep a copy apart from the database's backups. Until you
                  finish, both root keys open the vault.
                </p>
                <ul className="my-2">
                  {seen.services.map((one) => (
                    <li key={`${one.name} ${one.seen_at}`}>
                      {one.name}: {one.ready ? "has it" : <strong>does not have it yet</strong>}
                    </li>
                  ))}
                </ul>
                <div className="flex flex-wrap gap-2">
                  <Act
                    label="Finish"
                    of="the change of the root key"
                    look="btn-sm btn-primary"
                    run={() => result(api.POST("/api/v1/keys/root/finish"))}
                    after={["keys"]}
                    confirm="Finish the change? The old root key will open nothing but earlier backups."
                  />
                  <Act
                    label="Abandon"
                    of="the change of the root key"
                    run={() => result(api.POST("/api/v1/keys/root/abandon"))}
                    after={["keys"]}
                    confirm="Abandon the change? The new root key will open nothing."
                  />
                </div>
              </div>
            ) : (
              <DrawerButton label="Replace the root key">
                {(close) => (
                  <Form
                    label="Prepare the change"
                    submit={changeRoot}
                    after={["keys"]}
                    done={close}
                  >
                    <Field label="Current passphrase" name="passphrase" type="password" required />
                    <Field
                      label="New passphrase"
                      name="new_passphrase"
                      type="password"
                      minLength={12}
                      required
                      hint="At least 12 characters; it may be the same."
                    />
                    <Field label="Reason" name="reason" required />
                  </Form>
                )}
              </DrawerButton>
            )}
            <DrawerButton label="Change the passphrase of the root key">
              {(close) => (
                <Form
                  label="Change passphrase"
                  submit={changePassphrase}
                  after={["keys"]}
                  done={close}
                >
                  <p className="quiet">
                    The root key stays. Only the root-key.json of this service is changed: copy it
                    to each other service and to where its backup is kept. Earlier copies still open
                    with the former passphrase.
                  </p>
                  <Field label="Current passphrase" name="passphrase" type="password" required />
                  <Field
                    label="New passphrase"
                    name="new_passphrase"
                    type="password"
                    minLength={12}
                    required
                    hint="At least 12 characters."
                  />
                  <Field label="Reason" name="reason" required />
                </Form>
              )}
            </DrawerButton>
            <DrawerButton label="Replace the organisation key">
              {(close) => (
                <Form
                  label="Replace"
                  submit={(data) =>
                    result(
                      api.POST("/api/v1/keys/organisation", {
                        body: { reason: text(data, "reason") },
                      }),
                    )
                  }
                  after={["keys"]}
                  done={close}
                >
                  <p className="quiet">
                    The new key is used at once; the data keys move to it in the background. Secrets
                    are not changed: rotate those that somebody may have seen.
                  </p>
                  <Field label="Reason" name="reason" required />
                </Form>
              )}
            </DrawerButton>
          </div>
        </>
      )}
    </Card>
  );
}

/** What a kind asks for, in a line; what it requires has a star. */
const asksFor = (kind: Kind) =>
  kind.fields.map((field) => `${field.label}${field.required ? "*" : ""}`).join(", ");

function OwnKind({ kind, may }: { kind: Kind; may: boolean }) {
  const params = { path: { name: kind.name }, header: ifMatch(kind.revision) };
  return (
    <li className="flex flex-wrap items-center justify-between gap-2 py-2">
      <div>
        <strong>{kind.label}</strong> <span className="quiet">{kind.name}</span>
        {kind.retired && <span className="quiet"> (retired)</span>}
        <p className="quiet">{asksFor(kind)}</p>
      </div>
      {may && (
        <div className="flex flex-wrap gap-2">
          <DrawerButton label={`Edit ${kind.label}`}>
            {(close) => <KindForm key={kind.revision} present={kind} close={close} />}
          </DrawerButton>
          <Act
            label={kind.retired ? `Restore ${kind.label}` : `Retire ${kind.label}`}
            run={() =>
              result(
                api.PATCH("/api/v1/kinds/{name}", { params, body: { retired: !kind.retired } }),
              )
            }
            after={["kinds"]}
          />
          <Act
            label={`Remove ${kind.label}`}
            run={() => result(api.DELETE("/api/v1/kinds/{name}", { params }))}
            after={["kinds"]}
            danger
            confirm={`Remove the kind ${kind.label}?`}
          />
        </div>
      )}
    </li>
  );
}

function Kinds({ may }: { may: boolean }) {
  const kinds = useQuery({
    queryKey: ["kinds"],
    queryFn: () => wholeList(api.GET("/api/v1/kinds")),
  });
  const own = kinds.data?.filter((kind) => kind.own) ?? [];
  const builtIn = kinds.data?.filter((kind) => !kind.own) ?? [];
  return (
    <div className="flex max-w-5xl flex-col gap-4">
      <Trouble error={kinds.error} />
      <Card
        title="Your own"
        actions={
          may && (
            <DrawerButton label="Add a kind" look="btn-sm btn-primary" wide>
              {(close) => <KindForm close={close} />}
            </DrawerButton>
          )
        }
      >
        {kinds.isSuccess && own.length === 0 && (
          <Empty>
            There are no kinds of your own yet. Add one for what the built-in kinds do not fit.
          </Empty>
        )}
        <ul className="divide-y divide-base-300">
          {own.map((kind) => (
            <OwnKind key={kind.name} kind={kind} may={may} />
          ))}
        </ul>
      </Card>
      <Card title="Built-in">
        <ul className="divide-y divide-base-300">
          {builtIn.map((kind) => (
            <li key={kind.name} className="flex items-center gap-2 py-1.5">
              <KindIcon kind={kind.name} />
              <span className="w-52 shrink-0">{kind.label}</span>
              <span className="quiet">{asksFor(kind)}</span>
            </li>
          ))}
        </ul>
      </Card>
    </div>
  );
}

export function Organisation({ me }: { me: Me }) {
  const tabs: Tab[] = [
    { name: "General", show: () => <SettingsCard me={me} /> },
    { name: "Kinds of credentials", show: () => <Kinds may={me.duties.includes("policy")} /> },
  ];
  if (me.duties.includes("recovery"))
    tabs.push({
      name: "Keys",
      show: () => (
        <div className="flex max-w-4xl flex-col gap-4">
          <KeysCard />
          <LockVault />
        </div>
      ),
    });
  return (
    <Page title={`Settings of ${me.organisation}`}>
      <Tabs label="Settings" tabs={tabs} />
    </Page>
  );
}
