// One person: who they are, what groups they are in, their sessions, and what they did.

import { useQuery } from "@tanstack/react-query";
import { LogOut, Pencil } from "lucide-react";
import { useState } from "react";
import { Link } from "wouter";
import {
  type Grant,
  type Group,
  type Me,
  type Person,
  type SeenItem,
  all,
  api,
  result,
  wholeList,
} from "../api";
import {
  Act,
  CredentialLink,
  Drawer,
  Empty,
  Field,
  Form,
  Page,
  Skeleton,
  State,
  Tabs,
  Trouble,
  When,
  text,
  type Tab,
} from "../parts";
import { type Column, DataTable } from "../parts/data-table";
import { AuditRows } from "./audit-rows";
import { addJobs } from "./job-tasks";
import { atLeast } from "./access-levels";
import { DUTIES, DutyBoxes, changePerson, groupsOf, useGroups } from "./people";
import { Sessions } from "./sessions";

function Edit({ person, close }: { person: Person; close: () => void }) {
  return (
    <Form
      label="Save"
      after={["people"]}
      done={close}
      submit={(data) => {
        const duties = DUTIES.filter((duty) => data.get(duty));
        const same =
          duties.length === person.duties.length &&
          duties.every((duty) => person.duties.includes(duty));
        const password = text(data, "password");
        return changePerson(person, {
          display_name: text(data, "display_name"),
          ...(!same && { duties }),
          ...(password && { password }),
        })();
      }}
    >
      <Field label="Name" name="display_name" defaultValue={person.display_name} required />
      <Field
        label="New password"
        name="password"
        type="password"
        autoComplete="new-password"
        hint="Leave it empty to keep it. A new one ends all their sessions."
      />
      <DutyBoxes held={person.duties} />
    </Form>
  );
}

function ProfileOf({ person, groups }: { person: Person; groups: Group[] }) {
  return (
    <dl className="grid max-w-2xl grid-cols-[9rem_1fr] gap-x-4 gap-y-2">
      <dt className="quiet">Sign-in name</dt>
      <dd>{person.sign_in_name}</dd>
      <dt className="quiet">Duties</dt>
      <dd>{person.duties.join(", ") || "none"}</dd>
      <dt className="quiet">Groups</dt>
      <dd>
        {groups.length > 0
          ? groups.map((group, at) => (
              <span key={group.id}>
                {at > 0 && ", "}
                <Link href="/people?tab=groups" className="link">
                  {group.name}
                </Link>
              </span>
            ))
          : "none"}
      </dd>
    </dl>
  );
}

const GRANTS: Column<Grant>[] = [
  {
    name: "place",
    head: "On",
    value: (grant) => grant.place,
    cell: (grant) => (
      <Link
        href={
          grant.target_type === "folder" ? `/vault/${grant.target}` : `/vault/-/${grant.target}`
        }
        className="font-medium text-primary hover:underline"
      >
        {grant.place}
      </Link>
    ),
  },
  { name: "level", head: "Level", value: (grant) => grant.level, choices: true },
  {
    name: "by",
    head: "By the grant to",
    value: (grant) => grant.subject_name,
    choices: true,
  },
  {
    name: "only",
    head: "Only",
    value: (grant) =>
      [grant.only_kind && `kind ${grant.only_kind}`, grant.only_tag && `tag ${grant.only_tag}`]
        .filter(Boolean)
        .join(", "),
  },
  {
    name: "until",
    head: "Until",
    value: (grant) => grant.ends_at ?? "",
    cell: (grant) => <When at={grant.ends_at} />,
  },
  { name: "note", head: "Note", value: (grant) => grant.note },
];

/** What somebody has access to, and by which way. */
function CanAccess({ person }: { person: string }) {
  const grants = useQuery({
    queryKey: ["grants", "of", person],
    queryFn: () =>
      all((page) =>
        api.GET("/api/v1/people/{person}/grants", {
          params: { path: { person }, query: page },
        }),
      ),
  });
  return (
    <DataTable
      label="Grants"
      columns={GRANTS}
      id={(grant) => grant.id}
      query={grants}
      file="access-of-a-person.csv"
      part="a-"
      empty={<Empty>No grant is for this person or for a group of theirs.</Empty>}
    />
  );
}

const SEEN: Column<SeenItem>[] = [
  {
    name: "credential",
    head: "Credential",
    value: (item) => item.path,
    cell: (item) =>
      item.level ? <CredentialLink id={item.credential} path={item.path} /> : item.path,
  },
  { name: "device", head: "Device", value: (item) => item.device ?? "" },
  {
    name: "last",
    head: "Last seen",
    value: (item) => item.last_at,
    cell: (item) => <When at={item.last_at} />,
  },
  { name: "times", head: "Times", value: (item) => item.times, right: true },
  {
    name: "since",
    head: "Password since then",
    value: (item) => (item.changed_since ? "changed" : "the same"),
    cell: (item) => <State word={item.changed_since ? "changed" : "still the same"} />,
    choices: true,
  },
];

/** What somebody has seen, and a way to make all of it worth nothing. */
function HasSeen({ person }: { person: Person }) {
  const seen = useQuery({
    queryKey: ["people", person.id, "seen"],
    queryFn: () =>
      wholeList(
        api.GET("/api/v1/people/{person}/seen", { params: { path: { person: person.id } } }),
      ),
  });
  const rotatable = (rows: SeenItem[]) =>
    rows.filter((item) => item.device && !item.changed_since && atLeast(item.level, "edit"));
  const all = rotatable(seen.data ?? []);
  const still = seen.data?.filter((item) => !item.changed_since) ?? [];
  return (
    <div className="flex flex-col gap-3">
      {still.length > 0 && (
        <div className="flex flex-wrap items-center justify-between gap-3 rounded-box border border-base-300 bg-base-100 px-3 py-2">
          <p>
            <strong className="font-semibold">{still.length}</strong>{" "}
            {still.length === 1 ? "password is" : "passwords are"} still what {person.display_name}{" "}
            saw.{" "}
            {still.length > all.length &&
              `${still.length - all.length} of them ${still.length - all.length === 1 ? "is" : "are"} on no device or not yours to edit.`}
          </p>
          {all.length > 0 && (
            <Act
              label={all.length === 1 ? "Rotate it" : `Rotate ${all.length}`}
              look="btn-sm btn-primary"
              run={() => addJobs("rotation", all)}
              after={["people", "jobs", "upkeep", "credentials"]}
              confirm={`Rotate ${all.length === 1 ? "the password" : `${all.length} passwords`} that ${person.display_name} has seen? The jobs begin at once.`}
            />
          )}
        </div>
      )}
      <DataTable
        label="Has seen"
        columns={SEEN}
        id={(item) => item.credential}
        query={seen}
        file="seen-by-a-person.csv"
        part="s-"
        bulk={(rows, clear) => {
          const some = rotatable(rows);
          return (
            <Act
              label={`Rotate ${some.length}`}
              run={async () => {
                await addJobs("rotation", some);
                clear();
              }}
              after={["people", "jobs", "upkeep", "credentials"]}
              confirm={`Rotate ${some.length} of the ${rows.length} selected passwords? Those on no device, changed since, or not yours to edit are left out.`}
            />
          );
        }}
        empty={<Empty>{person.display_name} has seen nothing that you may know of.</Empty>}
      />
    </div>
  );
}

function Activity({ person }: { person: string }) {
  const events = useQuery({
    queryKey: ["audit", "by", person],
    queryFn: () =>
      result(api.GET("/api/v1/audit", { params: { query: { limit: 50, actor: person } } })),
  });
  if (!events.data) return events.error ? <Trouble error={events.error} /> : <Skeleton />;
  if (events.data.items.length === 0) return <Empty>Nothing has been done yet.</Empty>;
  return <AuditRows events={events.data.items} />;
}

export function PersonPage({ me, person: id }: { me: Me; person: string }) {
  const one = useQuery({
    queryKey: ["people", id],
    queryFn: () => result(api.GET("/api/v1/people/{person}", { params: { path: { person: id } } })),
  });
  const groups = useGroups();
  const [editing, setEditing] = useState(false);
  const person = one.data;
  if (!person)
    return (
      <Page title="Person" crumbs={[["People and groups", "/people"]]}>
        {one.error ? <Trouble error={one.error} /> : <Skeleton />}
      </Page>
    );
  const may = me.duties.includes("people");
  const other = person.id !== me.id;
  const tabs: Tab[] = [
    {
      name: "Profile",
      show: () => <ProfileOf person={person} groups={groupsOf(groups.data, person.id)} />,
    },
  ];
  if (!other || me.duties.includes("access") || me.duties.includes("audit"))
    tabs.push({ name: "Can access", show: () => <CanAccess person={person.id} /> });
  tabs.push({ name: "Has seen", show: () => <HasSeen person={person} /> });
  if (may || !other)
    tabs.push({
      name: "Sessions",
      show: () =>
        other ? <Sessions person={person.id} name={person.display_name} /> : <Sessions />,
    });
  if (me.duties.includes("audit"))
    tabs.push({ name: "Activity", show: () => <Activity person={person.id} /> });
  return (
    <Page
      title={person.display_name}
      crumbs={[["People and groups", "/people"]]}
      note={person.sign_in_name}
      actions={
        <>
          <State word={person.state} />
          {may && person.state !== "left" && (
            <button type="button" className="btn btn-sm" onClick={() => setEditing(true)}>
              <Pencil className="size-4" aria-hidden="true" />
              Edit
            </button>
          )}
          {may && other && person.state === "active" && (
            <Act
              label="Suspend"
              run={changePerson(person, { state: "suspended" })}
              after={["people"]}
              confirm={`Suspend ${person.display_name}? All their sessions end at once.`}
            />
          )}
          {may && person.state === "suspended" && (
            <Act
              label="Allow sign-in"
              run={changePerson(person, { state: "active" })}
              after={["people"]}
            />
          )}
          {may && other && person.state !== "left" && (
            <Act
              label="Mark as left"
              icon={<LogOut className="size-4" aria-hidden="true" />}
              danger
              run={changePerson(person, { state: "left" })}
              after={["people", "groups"]}
              confirm={`Mark ${person.display_name} as left? They can never sign in again, and their sessions end at once.`}
            />
          )}
        </>
      }
    >
      <Drawer title={`Edit ${person.display_name}`} open={editing} close={() => setEditing(false)}>
        <Edit person={person} close={() => setEditing(false)} />
      </Drawer>
      <Tabs label={person.display_name} tabs={tabs} />
    </Page>
  );
}
