// Grants, plans and gates, of a folder or of a credential.

import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Explanation, type Gate, type Grant, type Group, type Kind, type NewGrant, type Person, type PasswordPolicy, type Plan, all, api } from "../api";
import { Act, Ask, Choice, Empty, Field, Form, Trouble, When, text } from "../parts";
import { Considered, Shifts } from "./preview";

/** The reader's own time zone. */
const OWN_ZONE = new Intl.DateTimeFormat().resolvedOptions().timeZone;

interface Place {
  folder?: string;
  credential?: string;
}
const asked = (place: Place) => (place.folder ? `folder=${place.folder}` : `credential=${place.credential}`);
const target = (place: Place) => place.folder ?? place.credential;

function useSubjects() {
  const people = useQuery({ queryKey: ["people"], queryFn: () => all<Person>("/people") });
  const groups = useQuery({ queryKey: ["groups"], queryFn: () => all<Group>("/groups") });
  return { people: people.data ?? [], groups: groups.data ?? [] };
}

/** Who reaches this, and granting more. */
export function Grants(place: Place) {
  const grants = useQuery({ queryKey: ["grants", target(place)], queryFn: () => all<Grant>(`/grants?${asked(place)}`) });
  const { people, groups } = useSubjects();
  const own = target(place);
  const subjects: [string, string][] = [...groups.map((group): [string, string] => [`group ${group.id}`, `Group ${group.name}`]), ...people.filter((person) => person.state === "active").map((person): [string, string] => [`person ${person.id}`, person.display_name])];
  const [asking, setAsking] = useState<NewGrant | null>(null);
  const kinds = useQuery({ queryKey: ["kinds"], queryFn: () => all<Kind>("/kinds"), enabled: Boolean(place.folder) });
  const submit = async (data: FormData) => {
    const [sort, id] = text(data, "subject").split(" ");
    const ends = text(data, "ends_at");
    setAsking({
      ...place,
      [sort === "group" ? "group" : "person"]: id,
      level: text(data, "level"),
      ends_at: ends ? new Date(ends).toISOString() : undefined,
      note: text(data, "note"),
      only_kind: text(data, "only_kind") || undefined,
      only_tag: text(data, "only_tag") || undefined,
      without_history: Boolean(data.get("without_history")),
    });
  };
  const named = subjects.find(([value]) => asking && value.endsWith(asking.person ?? asking.group ?? " "))?.[1];
  return (
    <div>
      <Trouble error={grants.error} />
      <ul className="mb-2">
        {grants.data?.map((grant) => (
          <li key={grant.id} className="flex flex-wrap items-baseline justify-between gap-2 border-b border-base-300 py-1">
            <span>
              <strong>{grant.level}</strong> to {grant.subject_name}
              <span className="quiet text-sm">
                {grant.target === own ? "" : ` from ${grant.place}`}
                {grant.only_kind && `, only of the kind ${grant.only_kind}`}
                {grant.only_tag && `, only with #${grant.only_tag}`}
                {!grant.history && ", without former values"}
                {grant.ends_at && <>, until <When at={grant.ends_at} /></>}
                {grant.note && `, “${grant.note}”`}
              </span>
            </span>
            {grant.target === own && <Considered label="Take away" look="btn-xs" title={`Take ${grant.level} away from ${grant.subject_name}?`} change={{ withdraw: grant.id }} run={() => api.remove(`/grants/${grant.id}`)} after={["grants", "explain"]} />}
          </li>
        ))}
      </ul>
      <Form label="Grant …" submit={submit} keep>
        <Choice label="To" name="subject" options={subjects} />
        <Choice label="Level" name="level" options={[["list", "list: knows it is there, may ask"], ["use", "use: may work with it without seeing it"], ["reveal", "reveal: may see it"], ["edit", "edit: may change it"], ["steward", "steward: may grant, gate, plan, remove"]]} />
        <Field label="Until (empty: without end)" name="ends_at" type="datetime-local" />
        {place.folder && (
          <div className="grid grid-cols-2 gap-2">
            <Choice label="Only of this kind" name="only_kind" options={[["", "any kind"], ...(kinds.data ?? []).map((kind): [string, string] => [kind.name, kind.label])]} />
            <Field label="Only with this tag" name="only_tag" />
          </div>
        )}
        <label className="text-sm">
          <input type="checkbox" name="without_history" className="checkbox checkbox-xs" /> without a look at former values
        </label>
        <Field label="Why" name="note" />
      </Form>
      {asking && (
        <Ask title={`Grant ${asking.level} to ${named ?? "them"}?`} label="Grant" run={() => api.post("/grants", asking)} close={() => setAsking(null)} after={["grants", "explain"]}>
          <Shifts change={{ grant: asking }} />
        </Ask>
      )}
    </div>
  );
}

/** Why somebody holds a level on a credential, or why not. */
export function Explain({ credential, self }: { credential: string; self: string }) {
  const { people } = useSubjects();
  const [person, setPerson] = useState(self);
  const explained = useQuery({ queryKey: ["explain", credential, person], queryFn: () => api.get<Explanation>(`/explain?person=${person}&credential=${credential}`), retry: false });
  return (
    <div>
      <Choice label="Why does, or doesn't, this person reach it?" name="person" value={person} onChange={(event) => setPerson(event.target.value)} options={people.map((each) => [each.id, each.display_name])} />
      <Trouble error={explained.error} />
      {explained.data && (
        <>
          <p className="mt-1 font-medium">{explained.data.sentence}</p>
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

export function PlanForm({ close, ...place }: Place & { close: () => void }) {
  const plans = useQuery({ queryKey: ["plans"], queryFn: () => all<Plan>("/plans") });
  const policies = useQuery({ queryKey: ["policies"], queryFn: () => all<PasswordPolicy>("/password-policies") });
  if (!plans.data || !policies.data) return <p role="status">Reading …</p>;
  const present = plans.data.find((plan) => plan.target === target(place));
  const submit = (data: FormData) => {
    const rules = {
      check: text(data, "check") || undefined,
      out_of_step: text(data, "out_of_step"),
      rotate_days: text(data, "rotate_days") ? Number(text(data, "rotate_days")) : undefined,
      rotate: text(data, "rotate") || undefined,
      hours_from: text(data, "hours_from") || undefined,
      hours_to: text(data, "hours_to") || undefined,
      time_zone: text(data, "time_zone"),
      policy: text(data, "policy") || undefined,
    };
    return present ? api.put(`/plans/${present.id}`, rules, present.version) : api.post("/plans", { ...place, ...rules });
  };
  return (
    <>
      {!present && <Empty>No plan of its own; the one of the nearest folder above counts, if there is one.</Empty>}
      <Form label={present ? "Change the plan" : "Set the plan"} submit={submit} after={["plans", "upkeep", "credential"]} done={close}>
        <Field label="Check by (RFC 5545 rule)" name="check" defaultValue={present?.check ?? "FREQ=DAILY;BYHOUR=3;BYMINUTE=0;BYSECOND=0"} />
        <Choice label="When out of step" name="out_of_step" defaultValue={present?.out_of_step} options={[["tell", "tell"], ["rotate", "rotate"], ["both", "both"]]} />
        <Field label="Rotate every so many days" name="rotate_days" type="number" min={1} max={3650} defaultValue={present?.rotate_days} />
        <Field label="Or rotate by (RFC 5545 rule)" name="rotate" defaultValue={present?.rotate} />
        <div className="grid grid-cols-2 gap-2">
          <Field label="Rotate from" name="hours_from" type="time" defaultValue={present?.hours_from} />
          <Field label="to" name="hours_to" type="time" defaultValue={present?.hours_to} />
        </div>
        <Choice label="New passwords by the policy" name="policy" defaultValue={present?.policy ?? ""} options={[["", "the default"], ...policies.data.map((policy): [string, string] => [policy.id, policy.name])]} />
        <Field label="Time zone" name="time_zone" defaultValue={present?.time_zone ?? OWN_ZONE} required />
      </Form>
      {present && <Act label="Remove the plan" run={() => api.remove(`/plans/${present.id}`, present.version)} after={["plans", "upkeep"]} confirm="Remove this plan?" />}
    </>
  );
}

export function GateForm({ close, ...place }: Place & { close: () => void }) {
  const gates = useQuery({ queryKey: ["gates"], queryFn: () => all<Gate>("/gates") });
  const { people, groups } = useSubjects();
  if (!gates.data) return <p role="status">Reading …</p>;
  const present = gates.data.find((gate) => gate.target === target(place));
  const approves = (id: string) => present?.approvers.some((approver) => approver.id === id) ?? false;
  const submit = (data: FormData) => {
    const body = {
      ...place,
      needs_reason: data.get("needs_reason") === "on",
      approver_groups: groups.filter((group) => data.get(group.id)).map((group) => group.id),
      approver_people: people.filter((person) => data.get(person.id)).map((person) => person.id),
      longest_minutes: Number(text(data, "longest_minutes")),
      one_holder: data.get("one_holder") === "on",
      rotate_on_return: data.get("rotate_on_return") === "on",
    };
    return present ? api.put(`/gates/${present.id}`, body, present.version) : api.post("/gates", body);
  };
  const tick = (name: string, label: string, checked: boolean | undefined) => (
    <label key={name} className="block">
      <input type="checkbox" name={name} defaultChecked={checked} className="checkbox checkbox-xs" /> {label}
    </label>
  );
  return (
    <>
      {!present && <Empty>No gate of its own; the one of the nearest folder above counts, if there is one.</Empty>}
      <Form label={present ? "Change the gate" : "Set the gate"} submit={submit} after={["gates", "credential", "credentials"]} done={close}>
        {tick("needs_reason", "A reason must be given", present?.needs_reason ?? true)}
        <fieldset className="max-h-40 overflow-y-auto">
          <legend className="text-sm">One of these must approve (none: no approval)</legend>
          {groups.map((group) => tick(group.id, `Group ${group.name}`, approves(group.id)))}
          {people.filter((person) => person.state === "active").map((person) => tick(person.id, person.display_name, approves(person.id)))}
        </fieldset>
        <Field label="At most so many minutes" name="longest_minutes" type="number" min={1} max={10080} defaultValue={present?.longest_minutes ?? 60} required />
        {tick("one_holder", "Only one person at a time", present?.one_holder ?? true)}
        {tick("rotate_on_return", "Rotate the password when it is given back", present?.rotate_on_return ?? true)}
      </Form>
      {present && <Act label="Remove the gate" run={() => api.remove(`/gates/${present.id}`, present.version)} after={["gates", "credential", "credentials"]} confirm="Remove this gate?" />}
    </>
  );
}
