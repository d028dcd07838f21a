// Adding and changing a credential.

import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useLocation } from "wouter";
import {
  type Credential,
  type Folder,
  type Kind,
  type KindField,
  type PasswordPolicy,
  type FieldType,
  api,
  result,
  wholeList,
  all,
  ifMatch,
} from "../api";
import { Choice, Field, Form, Trouble, text } from "../parts";
import { FolderField } from "./folder-field";
import { Inputs, MAIN, TYPES, collect, fieldsOf, splitTags, tagsOf } from "./credential-fields";
import { atLeast } from "./access-levels";
import { Shifts } from "./access-preview";
import { useFolders } from "./folders";

const SORTS: [string, string][] = [
  ["", "Ed25519"],
  ["ecdsa-p256", "ECDSA P-256"],
  ["ecdsa-p384", "ECDSA P-384"],
  ["rsa-3072", "RSA, 3072 bits"],
  ["rsa-4096", "RSA, 4096 bits"],
];

/** What counts for passwords in a folder, in words, and what people may choose from. */
export function useRule(folder: string): { words: string; choices: PasswordPolicy[] } {
  const rule = useQuery({
    queryKey: ["password-rule", folder],
    queryFn: () =>
      result(api.GET("/api/v1/folders/{folder}/password-rule", { params: { path: { folder } } })),
  });
  const policies = useQuery({
    queryKey: ["policies"],
    queryFn: () => wholeList(api.GET("/api/v1/password-policies")),
  });
  const named = (policies.data ?? []).filter((policy) => rule.data?.policies.includes(policy.id));
  const names = named.map((policy) => `“${policy.name}”`).join(" or ");
  if (!rule.data)
    return { words: "Leave it empty to generate one by the default policy.", choices: [] };
  if (rule.data.mode === "enforce")
    return {
      words: `This folder stores only passwords that comply with ${names}. Leave it empty to generate one.`,
      choices: [],
    };
  if (rule.data.mode === "choose") return { words: "Choose a policy.", choices: named };
  return { words: `Leave it empty to generate one by ${names}.`, choices: [] };
}

/** Copies a credential with its current values into another folder. */
export function CopyForm({ it, close }: { it: Credential; close: () => void }) {
  const submit = (data: FormData) =>
    result(
      api.POST("/api/v1/credentials/{credential}/copy", {
        params: { path: { credential: it.id } },
        body: {
          folder: text(data, "folder"),
          name: text(data, "name"),
        },
      }),
    );
  return (
    <Form label="Copy" submit={submit} after={["credentials"]} done={close}>
      <FolderField label="Into" start={it.folder} />
      <Field label="Under the name" name="name" defaultValue={it.name} required />
      <p className="quiet text-sm">
        The copy has the same values, and everybody with access to that folder has access to them.
        The reveal is recorded.
      </p>
    </Form>
  );
}

/** Moves a shared login into one's own folder. Who loses it is said by the refusal of the first try. */
export function MoveIn({ it, close }: { it: Credential; close: () => void }) {
  const [, go] = useLocation();
  const submit = async (data: FormData) => {
    await result(
      api.POST("/api/v1/personal/move-in", {
        body: {
          credential: it.id,
          others_lose_access: data.get("lose") === "on",
        },
      }),
    );
    go("/personal");
  };
  return (
    <Form
      label="Move to personal folder"
      submit={submit}
      after={["credentials", "personal-items", "bin"]}
      done={close}
    >
      <p>Only you can open it there. The credential here goes to the bin.</p>
      <label>
        <input type="checkbox" name="lose" className="checkbox checkbox-xs" /> Others may lose
        access
      </label>
    </Form>
  );
}

/** Fields that this credential alone has. */
function ExtraFields({ extra, set }: { extra: KindField[]; set: (extra: KindField[]) => void }) {
  const [label, setLabel] = useState("");
  const [holds, setHolds] = useState<FieldType>("text");
  const add = () => {
    const name = label
      .trim()
      .toLowerCase()
      .replaceAll(/[^a-z0-9]+/g, "_")
      .replaceAll(/^[_0-9]+|_+$/g, "")
      .slice(0, 40);
    if (!name) return;
    set([
      ...extra.filter((field) => field.name !== name),
      { name, label: label.trim(), holds, required: false },
    ]);
    setLabel("");
  };
  return (
    <fieldset className="rounded-box border border-base-300 p-2">
      <legend className="px-1 text-sm">Extra fields</legend>
      {extra.map((field) => (
        <p key={field.name} className="flex justify-between gap-2">
          {field.label} ({field.holds})
          <button
            type="button"
            className="btn btn-xs"
            onClick={() => set(extra.filter((each) => each !== field))}
          >
            Remove {field.label}
          </button>
        </p>
      ))}
      <div className="grid grid-cols-[1fr_1fr_auto] items-end gap-2">
        <Field
          label="Label of the new field"
          name=""
          value={label}
          onChange={(event) => setLabel(event.target.value)}
        />
        <Choice
          label="Type"
          name=""
          value={holds}
          onChange={(event) => setHolds(event.target.value as FieldType)}
          options={TYPES.filter(([type]) => type !== "one-time-seed")}
        />
        <button type="button" className="btn btn-sm" onClick={add}>
          Add field
        </button>
      </div>
    </fieldset>
  );
}

function DeviceChoice({ fields, present }: { fields: KindField[]; present?: string | null }) {
  const devices = useQuery({
    queryKey: ["devices"],
    queryFn: () => all((page) => api.GET("/api/v1/devices", { params: { query: page } })),
  });
  if (!devices.data || !(present || fields.some((field) => field.name === "user_name")))
    return null;
  return (
    <Choice
      label="Account of the device"
      name="device"
      defaultValue={present ?? ""}
      options={[
        ["", "none"],
        ...devices.data.map((device): [string, string] => [
          device.id,
          `${device.place}/${device.name}`,
        ]),
      ]}
    />
  );
}

export function AddCredential({ here, close }: { here: Folder; close: () => void }) {
  const kinds = useQuery({
    queryKey: ["kinds"],
    queryFn: () => wholeList(api.GET("/api/v1/kinds")),
  });
  const rule = useRule(here.id);
  const [chosen, setChosen] = useState("");
  const [short, setShort] = useState(true);
  const [extra, setExtra] = useState<KindField[]>([]);
  const offered = (kinds.data ?? []).filter((each) => !each.retired);
  const kind =
    offered.find((each) => each.name === chosen) ??
    offered.find((each) => each.name === "login") ??
    offered[0];
  if (!kind) return <Trouble error={kinds.error} />;
  const fields = fieldsOf(kind, { extra, fields: {} });
  const main = kind.fields.find((field) => field.name === MAIN);
  const submit = (data: FormData) => {
    const given = collect(data, fields);
    return result(
      api.POST("/api/v1/credentials", {
        body: {
          folder: here.id,
          kind: kind.name,
          kind_revision: kind.revision,
          name: text(data, "name"),
          ...given,
          extra,
          tags: tagsOf(data),
          device: text(data, "device") || undefined,
          policy: text(data, "policy") || undefined,
          key: text(data, "key") || undefined,
        },
      }),
    );
  };
  const hint = (field: KindField) =>
    field.name === MAIN && field.holds === "secret" && kind.generates ? rule.words : undefined;
  return (
    <Form
      label="Add the credential"
      submit={submit}
      after={["credentials", "upkeep", "tags"]}
      done={close}
    >
      <Choice
        label="Kind"
        name="kind"
        value={kind.name}
        onChange={(event) => setChosen(event.target.value)}
        options={offered.map((each) => [
          each.name,
          each.own ? `${each.label} (own kind)` : each.label,
        ])}
      />
      <Field label="Name" name="name" required />
      <Inputs
        key={kind.name}
        fields={fields}
        generates={kind.generates}
        short={short}
        secretHint={hint}
      />
      {main?.holds === "ssh-key" && (
        <Choice label="Generate a key of type" name="key" options={SORTS} />
      )}
      {rule.choices.length > 0 && main?.holds === "secret" && (
        <Choice
          label="Policy"
          name="policy"
          options={rule.choices.map((policy) => [policy.id, policy.name])}
        />
      )}
      {!short && (
        <>
          <DeviceChoice fields={fields} />
          <Field label="Tags" name="tags" hint="Separate with commas." />
          <ExtraFields extra={extra} set={setExtra} />
        </>
      )}
      {short && kind.generates && main?.holds === "secret" && (
        <p className="quiet text-sm">A password is generated.</p>
      )}
      <button
        type="button"
        className="link self-start text-sm"
        aria-expanded={!short}
        onClick={() => setShort(!short)}
      >
        {short ? "All fields …" : "Short form"}
      </button>
    </Form>
  );
}

export function EditCredential({
  it,
  kind,
  close,
}: {
  it: Credential;
  kind: Kind;
  close: () => void;
}) {
  const folders = useFolders();
  const rule = useRule(it.folder);
  const [extra, setExtra] = useState<KindField[]>(it.extra);
  const [tags, setTags] = useState(it.tags);
  const [generating, setGenerating] = useState(false);
  const [add, gone] = [
    tags.filter((tag) => !it.tags.includes(tag)),
    it.tags.filter((tag) => !tags.includes(tag)),
  ];
  const changed = add.length + gone.length > 0;
  const fields = fieldsOf(kind, { extra, fields: it.fields });
  const submit = (data: FormData) => {
    const given = collect(data, fields, it.fields);
    const device = text(data, "device");
    return result(
      api.PATCH("/api/v1/credentials/{credential}", {
        params: { path: { credential: it.id }, header: ifMatch(it.revision) },
        body: {
          name: text(data, "name"),
          ...given,
          kind_revision: kind.revision,
          extra,
          tags: tagsOf(data),
          reason: text(data, "reason"),
          folder: text(data, "folder") || undefined,
          device: device || undefined,
          no_device: data.has("device") && !device,
          generate: data.get("generate") === "on",
          policy: text(data, "policy") || undefined,
        },
      }),
    );
  };
  const hint = (field: KindField) => {
    if (field.name === MAIN && it.device)
      return "Leave it empty to keep the password. A new one is stored in the vault only; use Rotate now to change it on the device too.";
    return it.secret_fields.includes(field.name) ? "Leave it empty to keep it." : undefined;
  };
  return (
    <Form
      label="Save"
      submit={submit}
      after={["credential", "credentials", "history", "upkeep", "tags"]}
      done={close}
    >
      <Field label="Name" name="name" defaultValue={it.name} required />
      <Inputs fields={fields} present={it.fields} generates={kind.generates} secretHint={hint} />
      {kind.generates && (
        <label className="flex cursor-pointer items-center gap-2">
          <input
            type="checkbox"
            name="generate"
            className="checkbox checkbox-xs"
            checked={generating}
            onChange={() => setGenerating(!generating)}
          />
          Generate a new password, in the vault only
        </label>
      )}
      {generating && it.device && (
        <label className="flex cursor-pointer items-start gap-2 rounded-field border border-warning/50 bg-warning/5 px-3 py-2">
          <input type="checkbox" required className="checkbox checkbox-xs mt-1" />
          <span>
            {it.device_name ?? "The device"} keeps its present password, and nothing can sign in
            there with the new one until it is set by hand. To change both, use Rotate now instead.
          </span>
        </label>
      )}
      {rule.choices.length > 0 && (
        <Choice
          label="Policy"
          name="policy"
          options={rule.choices.map((policy) => [policy.id, policy.name])}
        />
      )}
      <Field label="Reason" name="reason" hint="It is kept with new values in the history." />
      <Field
        label="Tags"
        name="tags"
        defaultValue={it.tags.join(", ")}
        onBlur={(event) => setTags(splitTags(event.target.value))}
      />
      {changed && atLeast(it.level, "steward") && (
        <Shifts change={{ tags: { ids: [it.id], add, remove: gone } }} />
      )}
      <DeviceChoice fields={fields} present={it.device} />
      {folders.data && (
        <Choice
          label="Folder"
          name="folder"
          defaultValue={it.folder}
          options={folders.data
            .filter((folder) => atLeast(folder.level, "edit") || folder.id === it.folder)
            .map((folder) => [folder.id, folder.path])}
        />
      )}
      <ExtraFields extra={extra} set={setExtra} />
    </Form>
  );
}
