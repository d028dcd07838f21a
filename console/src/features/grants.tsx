// Who may do what with a folder or a credential, who reaches it, and why.

import { useQuery } from "@tanstack/react-query";
import { Link } from "wouter";
import { useState } from "react";
import {
  type Grant,
  type GrantTerms,
  type NewGrant,
  api,
  result,
  wholeList,
  all,
  ifMatch,
  type Level,
} from "../api";
import {
  Ask,
  Choice,
  Drawer,
  DrawerButton,
  Empty,
  Field,
  Form,
  Table,
  Trouble,
  When,
  Words,
  text,
  word,
} from "../parts";
import { Considered, Shifts } from "./access-preview";

/** One of these. */
export interface Place {
  folder?: string;
  credential?: string;
}
/** A place without what else stands beside it. */
const asked = ({ folder, credential }: Place): Place => (folder ? { folder } : { credential });
export const target = (place: Place) => place.folder ?? place.credential;

const AFTER = ["grants", "explain", "reach", "credentials", "folders"];
const LEVELS: [string, string][] = [
  ["list", "list: sees that it exists, may request access"],
  ["use", "use: may work with it without seeing it"],
  ["reveal", "reveal: may see the secret"],
  ["edit", "edit: may change it"],
  ["steward", "steward: may grant, gate, plan, remove"],
];

export function useSubjects() {
  const people = useQuery({
    queryKey: ["people"],
    queryFn: () => all((page) => api.GET("/api/v1/people", { params: { query: page } })),
  });
  const groups = useQuery({
    queryKey: ["groups"],
    queryFn: () => all((page) => api.GET("/api/v1/groups", { params: { query: page } })),
  });
  return { people: people.data ?? [], groups: groups.data ?? [] };
}

/** A moment as an input of the browser has it, in the reader's own time zone. */
function local(at: string | null): string {
  if (!at) return "";
  const time = new Date(at);
  return new Date(time.getTime() - time.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
}

/** Other terms for a grant that is there. */
function Terms({ grant, done }: { grant: Grant; done: () => void }) {
  const [asking, setAsking] = useState<GrantTerms | null>(null);
  const submit = async (data: FormData) => {
    const ends = text(data, "ends_at");
    setAsking({
      id: grant.id,
      to: {
        level: word<Level>(data, "level"),
        ends_at: ends && ends !== local(grant.ends_at) ? new Date(ends).toISOString() : undefined,
        no_expiry: !ends,
        note: text(data, "note"),
        history: !data.get("without_history"),
      },
    });
  };
  return (
    <div className="w-full pb-2">
      <Form label="Edit …" submit={submit} keep>
        <Choice label="Level" name="level" defaultValue={grant.level} options={LEVELS} />
        <Field
          label="Expires (empty: never)"
          name="ends_at"
          type="datetime-local"
          defaultValue={local(grant.ends_at)}
        />
        <label className="text-sm">
          <input
            type="checkbox"
            name="without_history"
            defaultChecked={!grant.history}
            className="checkbox checkbox-xs"
          />{" "}
          without access to former values
        </label>
        <Field label="Note" name="note" defaultValue={grant.note} />
      </Form>
      {asking && (
        <Ask
          title={`Edit the access of ${grant.subject_name}?`}
          label="Apply"
          run={async () => {
            await result(
              api.PATCH("/api/v1/grants/{grant}", {
                params: { path: { grant: grant.id }, header: ifMatch(grant.revision) },
                body: asking.to,
              }),
            );
            done();
          }}
          close={() => setAsking(null)}
          after={AFTER}
        >
          <Shifts change={{ terms: asking }} />
        </Ask>
      )}
    </div>
  );
}

function GrantLine({ grant, own }: { grant: Grant; own: boolean }) {
  const [changing, setChanging] = useState(false);
  return (
    <li className="flex flex-wrap items-baseline justify-between gap-2 border-b border-base-300 py-1">
      <span>
        <strong>{grant.level}</strong> to {grant.subject_name}
        <span className="quiet text-sm">
          {own ? "" : ` from ${grant.place}`}
          {grant.only_kind && `, only of the kind ${grant.only_kind}`}
          {grant.only_tag && `, only with #${grant.only_tag}`}
          {!grant.history && ", without former values"}
          {grant.ends_at && (
            <>
              , until <When at={grant.ends_at} />
            </>
          )}
          {grant.note && `, “${grant.note}”`}
        </span>
      </span>
      {own && (
        <span className="flex gap-1">
          <button
            type="button"
            className="btn btn-xs"
            aria-label={`Edit ${grant.level} to ${grant.subject_name}`}
            aria-haspopup="dialog"
            onClick={() => setChanging(true)}
          >
            Edit
          </button>
          <Considered
            label="Remove"
            of={`${grant.level} from ${grant.subject_name}`}
            look="btn-xs"
            title={`Remove ${grant.level} from ${grant.subject_name}?`}
            change={{ withdraw: grant.id }}
            run={() =>
              result(
                api.DELETE("/api/v1/grants/{grant}", { params: { path: { grant: grant.id } } }),
              )
            }
            after={AFTER}
          />
        </span>
      )}
      <Drawer
        title={`Edit ${grant.level} to ${grant.subject_name}`}
        open={changing}
        close={() => setChanging(false)}
      >
        <Terms grant={grant} done={() => setChanging(false)} />
      </Drawer>
    </li>
  );
}

/** The grants that reach this, and granting more. */
export function Grants(place: Place) {
  const grants = useQuery({
    queryKey: ["grants", target(place)],
    queryFn: () => wholeList(api.GET("/api/v1/grants", { params: { query: asked(place) } })),
  });
  const { people, groups } = useSubjects();
  const own = target(place);
  const subjects: [string, string][] = [
    ...groups.map((group): [string, string] => [`group ${group.id}`, `Group ${group.name}`]),
    ...people
      .filter((person) => person.state === "active")
      .map((person): [string, string] => [`person ${person.id}`, person.display_name]),
  ];
  const [asking, setAsking] = useState<NewGrant | null>(null);
  const kinds = useQuery({
    queryKey: ["kinds"],
    queryFn: () => wholeList(api.GET("/api/v1/kinds")),
    enabled: Boolean(place.folder),
  });
  const submit = async (data: FormData) => {
    const [sort, id] = text(data, "subject").split(" ");
    const ends = text(data, "ends_at");
    setAsking({
      ...place,
      [sort === "group" ? "group" : "person"]: id,
      level: word<Level>(data, "level"),
      ends_at: ends ? new Date(ends).toISOString() : undefined,
      note: text(data, "note"),
      only_kind: text(data, "only_kind") || undefined,
      only_tag: text(data, "only_tag") || undefined,
      without_history: Boolean(data.get("without_history")),
    });
  };
  const named = subjects.find(
    ([value]) => asking && value.endsWith(asking.person ?? asking.group ?? " "),
  )?.[1];
  const form = (close: () => void) => (
    <>
      <Form label="Grant …" submit={submit} keep>
        <Choice label="To" name="subject" options={subjects} />
        <Choice label="Level" name="level" options={LEVELS} />
        <Field label="Expires (empty: never)" name="ends_at" type="datetime-local" />
        {place.folder && (
          <div className="grid gap-2 sm:grid-cols-2">
            <Choice
              label="Only of this kind"
              name="only_kind"
              options={[
                ["", "any kind"],
                ...(kinds.data ?? []).map((kind): [string, string] => [kind.name, kind.label]),
              ]}
            />
            <Field label="Only with this tag" name="only_tag" />
          </div>
        )}
        <label>
          <input type="checkbox" name="without_history" className="checkbox checkbox-xs" /> without
          access to former values
        </label>
        <Field label="Note" name="note" />
      </Form>
      {asking && (
        <Ask
          title={`Grant ${asking.level} to ${named ?? "them"}?`}
          label="Grant"
          run={async () => {
            await result(api.POST("/api/v1/grants", { body: asking }));
            close();
          }}
          close={() => setAsking(null)}
          after={AFTER}
        >
          <Shifts change={{ grant: asking }} />
        </Ask>
      )}
    </>
  );
  return (
    <section>
      <div className="mb-1 flex flex-wrap items-center justify-between gap-2">
        <h3 className="font-semibold">Grants</h3>
        <DrawerButton label="Grant access" look="btn-sm btn-primary">
          {form}
        </DrawerButton>
      </div>
      <Trouble error={grants.error} />
      {grants.data?.length === 0 && <Empty>No grant applies to this.</Empty>}
      <ul>
        {grants.data?.map((grant) => (
          <GrantLine key={grant.id} grant={grant} own={grant.target === own} />
        ))}
      </ul>
    </section>
  );
}

/** Why somebody holds a level on something, or why not. */
export function Explain({ self, ...place }: Place & { self: string }) {
  const { people } = useSubjects();
  const [person, setPerson] = useState(self);
  const explained = useQuery({
    queryKey: ["explain", target(place), person],
    queryFn: () =>
      result(api.GET("/api/v1/explain", { params: { query: { person, ...asked(place) } } })),
    retry: false,
  });
  return (
    <div>
      <Choice
        label="Explain"
        name="person"
        value={person}
        onChange={(event) => setPerson(event.target.value)}
        options={people.map((each) => [each.id, each.display_name])}
      />
      <Trouble error={explained.error} />
      {explained.data && (
        <>
          <p className="mt-1 font-medium">
            <Words text={explained.data.sentence} />
          </p>
          <ul className="list-disc pl-5">
            {explained.data.ways.map((way) => (
              <li key={way.grant} className={way.stopped ? "quiet" : ""}>
                {way.level} on {way.stands_on}
                {way.through.length > 0 && ` through ${way.through.join(", in ")}`}
                {way.stopped && `; does not count: ${way.stopped}`}
              </li>
            ))}
          </ul>
        </>
      )}
    </div>
  );
}

/** So many are shown; the client lists all. */
const MOST_SHOWN = 500;

function Everybody(place: Place) {
  const reached = useQuery({
    queryKey: ["reach", target(place)],
    queryFn: () =>
      all(
        (page) => api.GET("/api/v1/reach", { params: { query: { ...asked(place), ...page } } }),
        MOST_SHOWN,
      ),
  });
  if (reached.data?.length === 0) return <Empty>Nobody has access to this.</Empty>;
  return (
    <>
      <Trouble error={reached.error} />
      <Table label="Who has access" heads={["Who", "Level", "By"]}>
        {reached.data?.map((it) => (
          <tr key={it.person}>
            <td>
              <Link href={`/people/${it.person}`} className="link">
                {it.name}
              </Link>
              {it.state !== "active" && <span className="quiet"> ({it.state})</span>}
            </td>
            <td>{it.level}</td>
            <td>
              {it.stands_on}
              {it.through.length > 0 && ` through ${it.through.join(", in ")}`}
              {it.others > 0 && (
                <span className="quiet">
                  , and {it.others === 1 ? "1 other grant" : `${it.others} other grants`}
                </span>
              )}
            </td>
          </tr>
        ))}
      </Table>
      {(reached.data?.length ?? 0) >= MOST_SHOWN && (
        <p className="quiet text-sm">There may be more; the client lists all: jexlin access who.</p>
      )}
    </>
  );
}

/** Who has access, and by what. */
export function Reach(place: Place) {
  return (
    <section>
      <h3 className="mb-1 font-semibold">Who has access</h3>
      <Everybody {...place} />
    </section>
  );
}
