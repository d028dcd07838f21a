// What can be done with a folder: add to it, share it, plan it, gate it.

import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Pencil } from "lucide-react";
import { useState } from "react";
import { useLocation } from "wouter";
import { type Folder, type Me, type PasswordRule, api, ifMatch, result, wholeList } from "../api";
import {
  Act,
  Choice,
  Crumbs,
  Drawer,
  Empty,
  Field,
  Form,
  State,
  type Tab,
  Tabs,
  Trouble,
  When,
  text,
  told,
} from "../parts";
import { atLeast } from "./access-levels";
import { MoveAsk } from "./drag-and-drop";
import { Considered } from "./access-preview";
import { GateForm, PlanForm } from "./plan-and-gate";
import { Explain, Grants, Reach } from "./grants";

/** What the folder demands of passwords. */
function RuleForm({ here, close }: { here: Folder; close: () => void }) {
  const rule = useQuery({
    queryKey: ["password-rule", here.id],
    queryFn: () =>
      result(
        api.GET("/api/v1/folders/{folder}/password-rule", {
          params: { path: { folder: here.id } },
        }),
      ),
  });
  const policies = useQuery({
    queryKey: ["policies"],
    queryFn: () => wholeList(api.GET("/api/v1/password-policies")),
  });
  const [mode, setMode] = useState<PasswordRule["mode"] | "">("");
  if (!rule.isSuccess || !policies.data) return <Trouble error={rule.error ?? policies.error} />;
  const own = rule.data?.folder === here.id;
  const chosen = mode || rule.data?.mode || "advise";
  const submit = (data: FormData) =>
    result(
      api.PUT("/api/v1/folders/{folder}/password-rule", {
        params: { path: { folder: here.id } },
        body: { mode: chosen, policies: data.getAll("policy").map(String) },
      }),
    );
  const after = ["password-rule", "credentials", "credential"];
  return (
    <>
      {rule.data && !own && <p className="quiet">What counts now is set on {rule.data.place}.</p>}
      <Form label="Set the policy" submit={submit} after={after} done={close}>
        <Choice
          label="Passwords in this folder"
          name="mode"
          value={chosen}
          onChange={(event) => setMode(event.target.value as PasswordRule["mode"])}
          options={[
            ["advise", "are advised to comply with"],
            ["enforce", "are stored only if they comply with"],
            ["choose", "comply with a policy that people choose from"],
          ]}
        />
        <fieldset>
          <legend className="sr-only">Policies</legend>
          {policies.data.map((policy) => (
            <label key={policy.id} className="block">
              <input
                type={chosen === "choose" ? "checkbox" : "radio"}
                name="policy"
                value={policy.id}
                defaultChecked={rule.data?.policies.includes(policy.id)}
                className={chosen === "choose" ? "checkbox checkbox-xs" : "radio radio-xs"}
              />{" "}
              {policy.name}
            </label>
          ))}
        </fieldset>
      </Form>
      {own && (
        <Act
          label="Remove this folder's policy"
          look="btn-sm btn-ghost"
          run={() =>
            result(
              api.DELETE("/api/v1/folders/{folder}/password-rule", {
                params: { path: { folder: here.id } },
              }),
            )
          }
          after={after}
        />
      )}
    </>
  );
}

/** Activity and below, as far down as the asker is a steward. */
function FolderHistory({ folder }: { folder: string }) {
  const events = useInfiniteQuery({
    queryKey: ["folder-history", folder],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      result(
        api.GET("/api/v1/folders/{folder}/history", {
          params: { path: { folder }, query: { limit: 30, cursor: pageParam } },
        }),
      ),
    getNextPageParam: (page) => page.next,
  });
  const rows = events.data?.pages.flatMap((page) => page.items) ?? [];
  if (!events.isSuccess) return <Trouble error={events.error} />;
  if (rows.length === 0) return <Empty>Nothing has happened here yet.</Empty>;
  return (
    <>
      <ol className="max-h-96 overflow-y-auto" tabIndex={0} aria-label="Activity">
        {rows.map((event) => (
          <li key={event.id} className="border-b border-base-300 py-1 text-sm">
            <span className="quiet">
              <When at={event.at} />
            </span>{" "}
            {event.actor_name || "the service"}: <span className="font-mono">{event.action}</span>
            {event.outcome !== "done" && <State word={event.outcome} />}
            <span className="block break-words">{event.target_name}</span>
          </li>
        ))}
      </ol>
      {events.hasNextPage && (
        <button
          type="button"
          className="btn btn-xs mt-1"
          onClick={() => void events.fetchNextPage()}
          disabled={events.isFetchingNextPage}
        >
          Older
        </button>
      )}
    </>
  );
}

/** Adds a folder in another one, or at the top. */
export function AddFolder({ parent, close }: { parent: Folder | undefined; close: () => void }) {
  return (
    <Form
      label="Add the folder"
      after={["folders"]}
      done={close}
      submit={(data) =>
        result(
          api.POST("/api/v1/folders", {
            body: { parent: parent?.id ?? null, name: text(data, "name") },
          }),
        )
      }
    >
      <Field label="Name" name="name" required />
    </Form>
  );
}

/** Name and place of a folder. */
function EditFolder({
  here,
  folders,
  change,
  moveTo,
  close,
}: {
  here: Folder;
  folders: Folder[];
  change: (body: object) => () => Promise<unknown>;
  moveTo: (to: Folder | null) => void;
  close: () => void;
}) {
  return (
    <div className="flex flex-col gap-4">
      <Form
        label="Save name"
        after={["folders", "credentials"]}
        done={close}
        submit={(data) => change({ name: text(data, "name") })()}
      >
        <Field label="Name" name="name" defaultValue={here.name} required />
      </Form>
      <Form
        label="Move …"
        keep
        submit={async (data) =>
          moveTo(folders.find((folder) => folder.id === text(data, "parent")) ?? null)
        }
      >
        <Choice
          label="Into"
          name="parent"
          options={folders
            .filter((folder) => atLeast(folder.level, "steward"))
            .map((folder) => [folder.id, folder.path])}
        />
      </Form>
    </div>
  );
}

/** What a folder is, who has access to it, and what its stewards set. */
export function FolderDetail({ me, here, folders }: { me: Me; here: Folder; folders: Folder[] }) {
  const [, go] = useLocation();
  const [editing, setEditing] = useState(false);
  const [to, setTo] = useState<Folder | null>(null);
  const stewards = atLeast(here.level, "steward");
  const audits = me.duties.includes("audit");
  const remove = async () => {
    const removal = await result(
      api.DELETE("/api/v1/folders/{folder}", {
        params: {
          path: { folder: here.id },
          query: { contents: true },
          header: ifMatch(here.revision),
        },
      }),
    );
    go(here.parent ? `/vault/${here.parent}` : "/vault");
    told(`${here.path} is in the bin.`, () =>
      result(api.POST("/api/v1/bin/{removal}/restore", { params: { path: { removal } } })),
    );
  };
  const change = (body: object) => () =>
    result(
      api.PATCH("/api/v1/folders/{folder}", {
        params: { path: { folder: here.id }, header: ifMatch(here.revision) },
        body,
      }),
    );
  const above: [string, string][] = [];
  for (
    let folder = folders.find((each) => each.id === here.parent);
    folder;
    folder = folders.find((each) => each.id === folder?.parent)
  )
    above.unshift([folder.name, `/vault/${folder.id}`]);
  const tabs: Tab[] = [];
  if (here.level || audits)
    tabs.push({
      name: "Access",
      show: () => (
        <div className="flex flex-col gap-4">
          <Explain folder={here.id} self={me.id} />
          {(stewards || audits) && <Reach folder={here.id} />}
          {stewards && <Grants folder={here.id} />}
        </div>
      ),
    });
  if (stewards)
    tabs.push(
      { name: "Gate", show: () => <GateForm folder={here.id} close={() => undefined} /> },
      { name: "Upkeep", show: () => <PlanForm folder={here.id} close={() => undefined} /> },
      {
        name: "Password policy",
        show: () => <RuleForm here={here} close={() => undefined} />,
      },
      { name: "Activity", show: () => <FolderHistory folder={here.id} /> },
    );
  return (
    <div className="flex flex-col gap-3">
      <div className="flex flex-wrap items-start justify-between gap-2">
        <div>
          {above.length > 0 && <Crumbs crumbs={above} />}
          <h2 className="text-xl font-semibold">{here.name}</h2>
          <p className="quiet flex flex-wrap gap-x-3">
            <span>
              {here.level
                ? `Your level: ${here.level}`
                : "You see this folder because it leads to something that you have access to."}
            </span>
            {here.closed && <span>Closed: grants from above stop here</span>}
            {here.shared && (
              <span>{here.own_grants ? "Shared: grants of its own" : "Shared from above"}</span>
            )}
          </p>
        </div>
        {stewards && (
          <div className="flex flex-wrap items-center gap-2">
            <button type="button" className="btn btn-sm" onClick={() => setEditing(true)}>
              <Pencil className="size-4" aria-hidden="true" />
              Edit or move
            </button>
            <Considered
              label={here.closed ? "Inherit grants again" : "Stop inheriting grants"}
              title={
                here.closed
                  ? `Inherit grants again in ${here.path}?`
                  : `Stop inheriting grants in ${here.path}?`
              }
              change={{ folder: { id: here.id, closed: !here.closed } }}
              run={change({ closed: !here.closed })}
              after={["folders", "credentials"]}
            />
            <Act
              label="Remove"
              run={remove}
              after={["folders", "credentials", "bin"]}
              danger
              confirm={`Remove ${here.path}? It goes to the bin with everything in it, and can be restored from there in one step.`}
            />
          </div>
        )}
      </div>
      <Drawer title={`Edit ${here.name}`} open={editing} close={() => setEditing(false)}>
        <EditFolder
          here={here}
          folders={folders}
          change={change}
          moveTo={(next) => {
            setEditing(false);
            setTo(next);
          }}
          close={() => setEditing(false)}
        />
      </Drawer>
      {to && <MoveAsk load={{ items: [], folder: here }} to={to} close={() => setTo(null)} />}
      {tabs.length > 0 && <Tabs label={here.path} tabs={tabs} />}
    </div>
  );
}
