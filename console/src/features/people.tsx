// People and groups.

import { useQuery } from "@tanstack/react-query";
import { User, UserPlus, Users } from "lucide-react";
import { useMemo, useState } from "react";
import { Link } from "wouter";
import {
  type ClientSecret,
  type Group,
  type Me,
  type PendingAct,
  type Person,
  all,
  api,
  ifMatch,
  result,
} from "../api";
import {
  Act,
  Choice,
  DrawerButton,
  Empty,
  Field,
  Form,
  Page,
  Skeleton,
  State,
  Table,
  Tabs,
  Trouble,
  text,
  useQueryPart,
} from "../parts";
import { type Asked, RemoteTable, chosenOnly, narrowed } from "../parts/remote-table";
import type { Column } from "../parts/table-state";
import { Considered } from "./access-preview";

export const DUTIES: Me["duties"] = [
  "people",
  "folders",
  "access",
  "policy",
  "audit",
  "export",
  "recovery",
];

/** Puts somebody into a group, after a look at what that gives them. */
function PutIn({ group, members }: { group: Group; members: [string, string][] }) {
  const [member, setMember] = useState(members[0]?.[0] ?? "");
  const name = members.find(([id]) => id === member)?.[1];
  return (
    <div className="flex flex-col gap-2">
      <Choice
        label="Who"
        name="member"
        options={members}
        value={member}
        onChange={(event) => setMember(event.target.value)}
      />
      <Considered
        label="Add member …"
        title={`Add ${name} to ${group.name}?`}
        change={{ join: { group: group.id, member } }}
        run={() =>
          result(
            api.PUT("/api/v1/groups/{group}/members/{subject}", {
              params: { path: { group: group.id, subject: member } },
            }),
          )
        }
        after={["groups"]}
      />
    </div>
  );
}

function AddClient({ made }: { made: (answer: ClientSecret | PendingAct) => void }) {
  return (
    <DrawerButton label="Add a client" look="btn-sm btn-primary">
      {(close) => (
        <Form
          label="Add the client"
          after={["people"]}
          done={close}
          submit={async (data) =>
            made(
              await result(
                api.POST("/api/v1/clients", {
                  body: { name: text(data, "name"), display_name: text(data, "display_name") },
                }),
              ),
            )
          }
        >
          <Field label="Signs in as" name="name" required />
          <Field label="Name" name="display_name" required />
        </Form>
      )}
    </DrawerButton>
  );
}

/** Programs that sign in. A secret is shown once. */
function Clients({ may, people }: { may: boolean; people: Person[] }) {
  const [shown, setShown] = useState<{ name: string; secret: string } | null>(null);
  const clients = people.filter((person) => person.type === "client");
  const made = (answer: ClientSecret | PendingAct) => {
    if (!("secret" in answer)) return;
    setShown({ name: answer.client.sign_in_name, secret: answer.secret });
  };
  const state = (client: Person, next: Person["state"]) => () =>
    result(
      api.PATCH("/api/v1/people/{person}", {
        params: { path: { person: client.id }, header: ifMatch(client.revision) },
        body: { state: next },
      }),
    );
  return (
    <div className="flex flex-col gap-3">
      <div className="flex flex-wrap items-center justify-between gap-2">
        <p className="quiet">
          Programs that sign in by themselves (OAuth 2.0, client credentials) and have grants as
          people do.
        </p>
        {may && <AddClient made={made} />}
      </div>
      {shown && (
        <div role="status" className="rounded-box border border-warning p-2">
          <p>
            The secret of {shown.name}, shown this once:{" "}
            <code className="font-mono break-all">{shown.secret}</code>
          </p>
          <button type="button" className="btn btn-xs mt-1" onClick={() => setShown(null)}>
            I have stored the secret
          </button>
        </div>
      )}
      {clients.length === 0 && <Empty>No program signs in yet.</Empty>}
      {clients.length > 0 && (
        <Table
          label="Clients"
          heads={
            may ? ["Name", "Signs in as", "State", "Actions"] : ["Name", "Signs in as", "State"]
          }
        >
          {clients.map((client) => (
            <tr key={client.id}>
              <td>{client.display_name}</td>
              <td>{client.sign_in_name}</td>
              <td>
                <State word={client.state} />
              </td>
              {may && (
                <td className="flex flex-wrap gap-1">
                  <Act
                    label="New secret"
                    of={`for ${client.sign_in_name}`}
                    look="btn-xs"
                    run={async () =>
                      made(
                        await result(
                          api.POST("/api/v1/clients/{client}/secret", {
                            params: { path: { client: client.id } },
                          }),
                        ),
                      )
                    }
                    after={["people"]}
                    confirm={`Renew the secret of ${client.display_name}? The current secret and its tokens stop working at once.`}
                  />
                  {client.state === "active" && (
                    <Act
                      label="Suspend"
                      of={client.sign_in_name}
                      look="btn-xs"
                      run={state(client, "suspended")}
                      after={["people"]}
                      confirm={`Suspend ${client.display_name}? Its tokens end at once.`}
                    />
                  )}
                  {client.state === "suspended" && (
                    <Act
                      label="Allow sign-in"
                      of={client.sign_in_name}
                      look="btn-xs"
                      run={state(client, "active")}
                      after={["people"]}
                    />
                  )}
                </td>
              )}
            </tr>
          ))}
        </Table>
      )}
    </div>
  );
}

/** Writes a person back. */
export const changePerson = (person: Person, body: object) => () =>
  result(
    api.PATCH("/api/v1/people/{person}", {
      params: { path: { person: person.id }, header: ifMatch(person.revision) },
      body,
    }),
  );

/** The duties, to be ticked. */
export function DutyBoxes({ held }: { held: Me["duties"] }) {
  return (
    <fieldset className="flex flex-col gap-1">
      <legend className="mb-1">Duties (none gives access to a secret)</legend>
      {DUTIES.map((duty) => (
        <label key={duty} className="flex items-center gap-2">
          <input
            type="checkbox"
            name={duty}
            defaultChecked={held.includes(duty)}
            className="checkbox checkbox-xs"
          />
          {duty}
        </label>
      ))}
    </fieldset>
  );
}

function AddPerson() {
  return (
    <DrawerButton
      label="Add a person"
      look="btn-sm btn-primary"
      icon={<UserPlus className="size-4" aria-hidden="true" />}
    >
      {(close) => (
        <Form
          label="Add"
          after={["people"]}
          done={close}
          submit={(data) =>
            result(
              api.POST("/api/v1/people", {
                body: {
                  sign_in_name: text(data, "name"),
                  display_name: text(data, "display_name"),
                  password: text(data, "password") || undefined,
                  duties: DUTIES.filter((duty) => data.get(duty)),
                },
              }),
            )
          }
        >
          <Field label="Sign-in name" name="name" required />
          <Field label="Name" name="display_name" required />
          <Field
            label="First password"
            name="password"
            type="password"
            autoComplete="new-password"
            hint="At least 12 characters. Without one they are invited and cannot sign in yet."
          />
          <DutyBoxes held={[]} />
        </Form>
      )}
    </DrawerButton>
  );
}

const columns = (groups: Group[] | undefined): Column<Person>[] => [
  {
    name: "name",
    head: "Name",
    value: (person) => person.display_name,
    cell: (person) => (
      <Link href={`/people/${person.id}`} className="group">
        <span className="font-semibold group-hover:underline">{person.display_name}</span>
        <span className="quiet block">{person.sign_in_name}</span>
      </Link>
    ),
  },
  {
    name: "state",
    head: "State",
    value: (person) => person.state,
    cell: (person) => <State word={person.state} />,
    choices: ["active", "invited", "suspended", "left"],
    one: true,
  },
  {
    name: "groups",
    head: "Groups",
    unsorted: true,
    value: (person) => namesOf(groups, person),
    cell: (person) => namesOf(groups, person) || "–",
  },
  {
    name: "duties",
    head: "Duties",
    value: (person) => person.duties.join(", "),
    cell: (person) => person.duties.join(", ") || "–",
    choices: [...DUTIES],
    one: true,
  },
  {
    name: "sign-in-name",
    head: "Sign-in name",
    value: (person) => person.sign_in_name,
    extra: true,
    unfiltered: true,
  },
];

function Groups({ may, groups, people }: { may: boolean; groups: Group[]; people: Person[] }) {
  const members: [string, string][] = [
    ...people.map((person): [string, string] => [person.id, person.display_name]),
    ...groups.map((group): [string, string] => [group.id, `Group ${group.name}`]),
  ];
  if (groups.length === 0)
    return <Empty>There are no groups yet. Grant to a group once instead of to each member.</Empty>;
  return (
    <ul className="flex flex-col gap-3">
      {groups.map((group) => (
        <li key={group.id} className="rounded-box border border-base-300 bg-base-100">
          <div className="flex flex-wrap items-center justify-between gap-2 border-b border-base-300 px-3 py-1.5">
            <h2 className="font-semibold">
              {group.name} <span className="quiet font-normal">{group.members.length}</span>
            </h2>
            {may && (
              <DrawerButton label={`Add a member to ${group.name}`}>
                {() => <PutIn group={group} members={members} />}
              </DrawerButton>
            )}
          </div>
          <ul className="flex flex-wrap gap-1.5 px-3 py-2">
            {group.members.length === 0 && <li className="quiet">No members yet.</li>}
            {group.members.map((member) => (
              <li
                key={member.id}
                className="flex items-center gap-1 rounded-field border border-base-300 pl-2"
              >
                {member.type === "group" ? (
                  <Users className="size-3.5" aria-hidden="true" />
                ) : (
                  <User className="size-3.5" aria-hidden="true" />
                )}
                {member.type === "group" ? (
                  member.name
                ) : (
                  <Link href={`/people/${member.id}`} className="hover:underline">
                    {member.name}
                  </Link>
                )}
                {may ? (
                  <Considered
                    label="Remove"
                    of={`${member.name} of ${group.name}`}
                    look="btn-xs btn-ghost"
                    title={`Remove ${member.name} from ${group.name}?`}
                    change={{ leave: { group: group.id, member: member.id } }}
                    run={() =>
                      result(
                        api.DELETE("/api/v1/groups/{group}/members/{subject}", {
                          params: { path: { group: group.id, subject: member.id } },
                        }),
                      )
                    }
                    after={["groups"]}
                  />
                ) : (
                  <span className="pr-2" />
                )}
              </li>
            ))}
          </ul>
        </li>
      ))}
    </ul>
  );
}

/** Everybody, to choose from. */
export function usePeople(enabled = true) {
  return useQuery({
    queryKey: ["people"],
    queryFn: () => all((page) => api.GET("/api/v1/people", { params: { query: page } })),
    enabled,
  });
}

export function useGroups() {
  return useQuery({
    queryKey: ["groups"],
    queryFn: () => all((page) => api.GET("/api/v1/groups", { params: { query: page } })),
  });
}

/** The groups that somebody is directly in. */
export const groupsOf = (groups: Group[] | undefined, person: string): Group[] =>
  (groups ?? []).filter((group) => group.members.some((member) => member.id === person));

/** The names of the groups that somebody is directly in. */
const namesOf = (groups: Group[] | undefined, person: Person): string =>
  groupsOf(groups, person.id)
    .map((group) => group.name)
    .join(", ");

const TABLE = ["people", "table"];

const part = (asked: Asked, from: number, limit: number) =>
  result(
    api.GET("/api/v1/people/table", {
      params: {
        query: {
          ...narrowed(asked, { name: "name", state: "state", groups: "group", duties: "duty" }),
          sort: asked.sort,
          from,
          limit,
        },
      },
    }),
  );

export function People({ me }: { me: Me }) {
  const groups = useGroups();
  const [tab] = useQueryPart("tab");
  const people = usePeople(tab === "groups" || tab === "clients");
  const may = me.duties.includes("people");
  const shown = useMemo(() => columns(groups.data), [groups.data]);
  const setStates = (chosen: Person[], state: Person["state"], clear: () => void) => async () => {
    for (const person of chosen) await changePerson(person, { state })();
    clear();
  };
  return (
    <Page
      title="People and groups"
      actions={
        may &&
        (tab === "groups" ? (
          <DrawerButton label="Add a group" look="btn-sm btn-primary">
            {(close) => (
              <Form
                label="Add"
                after={["groups"]}
                done={close}
                submit={(data) =>
                  result(api.POST("/api/v1/groups", { body: { name: text(data, "name") } }))
                }
              >
                <Field label="Name" name="name" required />
              </Form>
            )}
          </DrawerButton>
        ) : (
          tab !== "clients" && <AddPerson />
        ))
      }
    >
      <Trouble error={groups.error ?? people.error} />
      <Tabs
        label="People and groups"
        tabs={[
          {
            name: "People",
            show: () => (
              <RemoteTable
                label="People"
                columns={shown}
                id={(person) => person.id}
                name={TABLE}
                fetch={part}
                values={chosenOnly}
                first="name"
                file="people.csv"
                empty={<Empty>There is nobody here yet.</Empty>}
                {...(may && {
                  bulk: (chosen: Person[], clear: () => void) => {
                    const active = chosen.filter(
                      (person) => person.state === "active" && person.id !== me.id,
                    );
                    const suspended = chosen.filter((person) => person.state === "suspended");
                    return (
                      <>
                        {suspended.length > 0 && (
                          <Act
                            label={`Allow sign-in of ${suspended.length}`}
                            run={setStates(suspended, "active", clear)}
                            after={["people"]}
                          />
                        )}
                        {active.length > 0 && (
                          <Act
                            label={`Suspend ${active.length}`}
                            danger
                            run={setStates(active, "suspended", clear)}
                            after={["people"]}
                            confirm={`Suspend ${active.map((person) => person.display_name).join(", ")}? All their sessions end at once.`}
                          />
                        )}
                      </>
                    );
                  },
                })}
              />
            ),
          },
          {
            name: "Groups",
            count: groups.data?.length,
            show: () =>
              people.data ? (
                <Groups may={may} groups={groups.data ?? []} people={people.data} />
              ) : (
                <Skeleton />
              ),
          },
          {
            name: "Clients",
            show: () => (people.data ? <Clients may={may} people={people.data} /> : <Skeleton />),
          },
        ]}
      />
    </Page>
  );
}
