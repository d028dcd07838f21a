// What can be done with a folder: add to it, share it, plan it, gate it.

import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useLocation } from "wouter";
import { type Folder, type Me, api, result, wholeList, ifMatch, type PasswordRule } from "../api";
import {
  Act,
  Card,
  Choice,
  Empty,
  Field,
  Fold,
  Form,
  State,
  Trouble,
  When,
  text,
  told,
} from "../components";
import { AddCredential } from "./credential-forms";
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

/** What can be added here. */
export function FolderTools({ me, here }: { me: Me; here: Folder | undefined }) {
  const edits = atLeast(here?.level, "edit");
  const settings = useQuery({
    queryKey: ["settings"],
    queryFn: () => result(api.GET("/api/v1/settings")),
  });
  const adds = me.duties.includes("folders") || settings.data?.settings.adds_at_top === true;
  return (
    <div className="mt-2 flex flex-col gap-1 border-t border-base-300 pt-2">
      {here && edits && (
        <Fold label="Add a credential">
          {(close) => <AddCredential here={here} close={close} />}
        </Fold>
      )}
      {(edits || adds) && (
        <Fold label={here && edits ? "Add a folder here" : "Add a folder at the top"}>
          {(close) => (
            <Form
              label="Add the folder"
              after={["folders"]}
              done={close}
              submit={(data) =>
                result(
                  api.POST("/api/v1/folders", {
                    body: {
                      parent: here && edits ? here.id : null,
                      name: text(data, "name"),
                    },
                  }),
                )
              }
            >
              <Field label="Name" name="name" required />
            </Form>
          )}
        </Fold>
      )}
      {here && edits && (
        <Fold label="Add a device">
          {(close) => (
            <Form
              label="Add the device"
              after={["devices"]}
              done={close}
              submit={(data) =>
                result(
                  api.POST("/api/v1/devices", {
                    body: {
                      folder: here.id,
                      name: text(data, "name"),
                      address: text(data, "address"),
                      port: Number(text(data, "port") || 22),
                    },
                  }),
                )
              }
            >
              <Field label="Name" name="name" required />
              <Field label="Address" name="address" required />
              <Field label="Port" name="port" type="number" defaultValue={22} min={1} max={65535} />
            </Form>
          )}
        </Fold>
      )}
    </div>
  );
}

/** What a folder is, who reaches it, and what its stewards set. */
export function FolderDetail({ me, here, folders }: { me: Me; here: Folder; folders: Folder[] }) {
  const [, go] = useLocation();
  const stewards = atLeast(here.level, "steward");
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
  const [to, setTo] = useState<Folder | null>(null);
  const change = (body: object) => () =>
    result(
      api.PATCH("/api/v1/folders/{folder}", {
        params: { path: { folder: here.id }, header: ifMatch(here.revision) },
        body,
      }),
    );
  return (
    <Card title={here.path}>
      <p className="quiet mb-2">
        {here.level
          ? `Your level: ${here.level}.`
          : "You see this folder because it leads to something that you have access to."}
        {here.closed && " ⊘ Closed: grants from above stop here."}
        {here.shared &&
          (here.own_grants
            ? " ◆ Shared: has grants of its own."
            : " ◇ Shared: by a grant from above.")}
      </p>
      {(here.level || me.duties.includes("audit")) && (
        <Fold label="Explain access">{() => <Explain folder={here.id} self={me.id} />}</Fold>
      )}
      {(stewards || me.duties.includes("audit")) && <Reach folder={here.id} />}
      {stewards && (
        <>
          <Fold label="Grants on this folder">{() => <Grants folder={here.id} />}</Fold>
          <Fold label="Activity">{() => <FolderHistory folder={here.id} />}</Fold>
          <Fold label="Upkeep plan">{(close) => <PlanForm folder={here.id} close={close} />}</Fold>
          <Fold label="Passwords in this folder">
            {(close) => <RuleForm here={here} close={close} />}
          </Fold>
          <Fold label="Gate">{(close) => <GateForm folder={here.id} close={close} />}</Fold>
          <Fold label="Edit, move, close">
            {(close) => (
              <>
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
                    setTo(folders.find((folder) => folder.id === text(data, "parent")) ?? null)
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
                {to && (
                  <MoveAsk load={{ items: [], folder: here }} to={to} close={() => setTo(null)} />
                )}
                <div className="mt-2 flex gap-2">
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
                    confirm={`Move ${here.path} and everything in it to the bin? It can be restored from there in one step.`}
                  />
                </div>
              </>
            )}
          </Fold>
        </>
      )}
    </Card>
  );
}
