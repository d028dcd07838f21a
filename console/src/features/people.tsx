// People and groups.

import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import {
  type Group,
  type Me,
  type Person,
  api,
  result,
  all,
  ifMatch,
  type ClientSecret,
  type PendingAct,
} from "../api";
import {
  Act,
  Card,
  Choice,
  Empty,
  Field,
  Fold,
  Form,
  State,
  Table,
  Trouble,
  text,
} from "../components";
import { Sessions } from "./sessions";
import { Considered } from "./access-preview";

const DUTIES: Me["duties"] = [
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
    <Card title="Clients">
      <p>
        Programs that sign in by themselves (OAuth 2.0, client credentials) and have grants as
        people do.
      </p>
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
      {may && (
        <Fold label="Add a client">
          {(close) => (
            <Form
              label="Add the client"
              after={["people"]}
              done={close}
              submit={async (data) =>
                made(
                  await result(
                    api.POST("/api/v1/clients", {
                      body: {
                        name: text(data, "name"),
                        display_name: text(data, "display_name"),
                      },
                    }),
                  ),
                )
              }
            >
              <Field label="Signs in as" name="name" required />
              <Field label="Name" name="display_name" required />
            </Form>
          )}
        </Fold>
      )}
    </Card>
  );
}

export function People({ me }: { me: Me }) {
  const [sessionsOf, setSessionsOf] = useState<Person | null>(null);
  const people = useQuery({
    queryKey: ["people"],
    queryFn: () => all((page) => api.GET("/api/v1/people", { params: { query: page } })),
  });
  const groups = useQuery({
    queryKey: ["groups"],
    queryFn: () => all((page) => api.GET("/api/v1/groups", { params: { query: page } })),
  });
  const may = me.duties.includes("people");
  const change = (person: Person, body: object) => () =>
    result(
      api.PATCH("/api/v1/people/{person}", {
        params: { path: { person: person.id }, header: ifMatch(person.revision) },
        body,
      }),
    );
  const members: [string, string][] = [
    ...(people.data ?? []).map((person): [string, string] => [person.id, person.display_name]),
    ...(groups.data ?? []).map((group): [string, string] => [group.id, `Group ${group.name}`]),
  ];
  return (
    <div className="flex flex-col gap-3">
      <h1 className="text-xl font-semibold">People</h1>
      <Trouble error={people.error ?? groups.error} />
      <div className="grid items-start gap-3 xl:grid-cols-[3fr_2fr]">
        <Card title="People">
          <Table
            label="People"
            heads={["Name", "Signs in as", "State", "Duties", ...(may ? ["Actions"] : [])]}
          >
            {people.data
              ?.filter((person) => person.type !== "client")
              .map((person) => (
                <tr key={person.id}>
                  <td>{person.display_name}</td>
                  <td>{person.sign_in_name}</td>
                  <td>
                    <State word={person.state} />
                  </td>
                  <td>{person.duties.join(", ")}</td>
                  {may && (
                    <td>
                      <div className="flex gap-2">
                        {person.state === "active" && (
                          <button
                            type="button"
                            className="btn btn-xs"
                            aria-label={`Sessions of ${person.display_name}`}
                            aria-expanded={sessionsOf?.id === person.id}
                            onClick={() =>
                              setSessionsOf(sessionsOf?.id === person.id ? null : person)
                            }
                          >
                            Sessions
                          </button>
                        )}
                        {person.id !== me.id && person.state === "active" && (
                          <Act
                            label="Suspend"
                            look="btn-xs"
                            run={change(person, { state: "suspended" })}
                            after={["people"]}
                            confirm={`Suspend ${person.display_name}? All their sessions end at once.`}
                          />
                        )}
                        {person.state === "suspended" && (
                          <Act
                            label="Allow sign-in"
                            look="btn-xs"
                            run={change(person, { state: "active" })}
                            after={["people"]}
                          />
                        )}
                      </div>
                    </td>
                  )}
                </tr>
              ))}
          </Table>
          {may && sessionsOf && (
            <div className="mt-2">
              <Sessions person={sessionsOf.id} name={sessionsOf.display_name} />
            </div>
          )}
          {may && (
            <Fold label="Add a person">
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
                  <fieldset>
                    <legend className="text-sm">Duties (none gives access to a secret)</legend>
                    {DUTIES.map((duty) => (
                      <label key={duty} className="mr-3">
                        <input type="checkbox" name={duty} className="checkbox checkbox-xs" />{" "}
                        {duty}
                      </label>
                    ))}
                  </fieldset>
                </Form>
              )}
            </Fold>
          )}
        </Card>
        <Card title="Groups">
          {groups.data?.length === 0 && (
            <Empty>There are no groups yet. Grant to a group once instead of to each member.</Empty>
          )}
          <ul className="flex flex-col gap-2">
            {groups.data?.map((group) => (
              <li key={group.id}>
                <strong>{group.name}</strong>
                <ul className="flex flex-wrap gap-1">
                  {group.members.map((member) => (
                    <li
                      key={member.id}
                      className="flex items-center rounded border border-base-300 px-2"
                    >
                      {member.type === "group" && <span className="quiet mr-1">group</span>}
                      {member.name}
                      {may && (
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
                      )}
                    </li>
                  ))}
                </ul>
                {may && (
                  <Fold label={`Add a member to ${group.name}`}>
                    {() => <PutIn group={group} members={members} />}
                  </Fold>
                )}
              </li>
            ))}
          </ul>
          {may && (
            <Fold label="Add a group">
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
            </Fold>
          )}
        </Card>
        <Clients may={may} people={people.data ?? []} />
      </div>
    </div>
  );
}
