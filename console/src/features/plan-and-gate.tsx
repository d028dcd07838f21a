// Plans and gates, of a folder or of a credential.

import { useQuery } from "@tanstack/react-query";
import { useCallback, useState } from "react";
import { api, result, wholeList, ifMatch, type Plan, type PlanRules } from "../api";
import { Act, Choice, Empty, Field, Form, Trouble, text, word } from "../parts";
import { type Place, target, useSubjects } from "./grants";

/** The reader's own time zone. */
const OWN_ZONE = new Intl.DateTimeFormat().resolvedOptions().timeZone;

/** The rules that a form holds. */
function rulesOf(data: FormData): PlanRules {
  return {
    check: text(data, "check") || undefined,
    out_of_sync: word<Plan["out_of_sync"]>(data, "out_of_sync"),
    rotate_days: text(data, "rotate_days") ? Number(text(data, "rotate_days")) : undefined,
    rotate: text(data, "rotate") || undefined,
    hours_from: text(data, "hours_from") || undefined,
    hours_to: text(data, "hours_to") || undefined,
    time_zone: text(data, "time_zone"),
    policy: text(data, "policy") || undefined,
  };
}

/** When rules come next, or what is wrong with them. */
function NextTimes({ rules, plan }: { rules: PlanRules; plan?: string }) {
  const times = useQuery({
    queryKey: ["plan-times", plan, rules],
    queryFn: () =>
      result(api.POST("/api/v1/plans/next-times", { params: { query: { plan } }, body: rules })),
    retry: false,
    placeholderData: (before) => before,
  });
  if (times.error) return <Trouble error={times.error} />;
  const lists: [string, string[]][] = [
    ["Next checks", times.data?.checks ?? []],
    ["Next rotations", times.data?.rotations ?? []],
  ];
  return (
    <div className="quiet text-sm" role="status">
      {lists
        .filter(([, list]) => list.length > 0)
        .map(([label, list]) => (
          <p key={label}>
            {label}:{" "}
            {list.map((at, index) => (
              <span key={at}>
                {index > 0 && ", "}
                <span className="whitespace-nowrap">{inZone(at, rules.time_zone)}</span>
              </span>
            ))}
          </p>
        ))}
    </div>
  );
}

/** A time in the time zone of a plan. */
function inZone(at: string, timeZone: string): string {
  try {
    return new Intl.DateTimeFormat(undefined, {
      timeZone,
      dateStyle: "short",
      timeStyle: "short",
    }).format(new Date(at));
  } catch {
    return at;
  }
}

export function PlanForm({ close, ...place }: Place & { close: () => void }) {
  const plans = useQuery({
    queryKey: ["plans"],
    queryFn: () => wholeList(api.GET("/api/v1/plans")),
  });
  const policies = useQuery({
    queryKey: ["policies"],
    queryFn: () => wholeList(api.GET("/api/v1/password-policies")),
  });
  const [rules, setRules] = useState<PlanRules | null>(null);
  // What stands in the form is looked at whenever something in it has changed.
  const follow = useCallback((marker: HTMLDivElement | null) => {
    const form = marker?.closest("form");
    if (!form) return;
    const look = () => setRules(rulesOf(new FormData(form)));
    form.addEventListener("change", look);
    look();
    return () => form.removeEventListener("change", look);
  }, []);
  if (!plans.data || !policies.data) return <p role="status">Loading …</p>;
  const present = plans.data.find((plan) => plan.target === target(place));
  const submit = (data: FormData) => {
    const rules = rulesOf(data);
    return present
      ? result(
          api.PUT("/api/v1/plans/{plan}", {
            params: { path: { plan: present.id }, header: ifMatch(present.revision) },
            body: rules,
          }),
        )
      : result(api.POST("/api/v1/plans", { body: { ...place, ...rules } }));
  };
  return (
    <>
      {!present && (
        <Empty>No own plan; the plan of the nearest folder above applies, if there is one.</Empty>
      )}
      <Form
        label={present ? "Save plan" : "Add plan"}
        submit={submit}
        after={["plans", "upkeep", "credential"]}
        done={close}
      >
        <Field
          label="Check by (RFC 5545 rule)"
          name="check"
          defaultValue={present?.check ?? "FREQ=DAILY;BYHOUR=3;BYMINUTE=0;BYSECOND=0"}
        />
        <Choice
          label="When out of sync"
          name="out_of_sync"
          defaultValue={present?.out_of_sync}
          options={[
            ["report", "report"],
            ["rotate", "rotate"],
            ["both", "both"],
          ]}
        />
        <Field
          label="Rotate every (days)"
          name="rotate_days"
          type="number"
          min={1}
          max={3650}
          defaultValue={present?.rotate_days ?? undefined}
        />
        <Field
          label="Or rotate by (RFC 5545 rule)"
          name="rotate"
          defaultValue={present?.rotate ?? undefined}
        />
        <div className="grid gap-2 sm:grid-cols-2">
          <Field
            label="Rotate from"
            name="hours_from"
            type="time"
            defaultValue={present?.hours_from ?? undefined}
          />
          <Field
            label="to"
            name="hours_to"
            type="time"
            defaultValue={present?.hours_to ?? undefined}
          />
        </div>
        <Choice
          label="Policy for new passwords"
          name="policy"
          defaultValue={present?.policy ?? ""}
          options={[
            ["", "the default"],
            ...policies.data.map((policy): [string, string] => [policy.id, policy.name]),
          ]}
        />
        <Field
          label="Time zone"
          name="time_zone"
          defaultValue={present?.time_zone ?? OWN_ZONE}
          required
        />
        <div ref={follow} />
        {rules && <NextTimes rules={rules} plan={present?.id} />}
      </Form>
      {present && (
        <Act
          label="Remove the plan"
          run={() =>
            result(
              api.DELETE("/api/v1/plans/{plan}", {
                params: { path: { plan: present.id }, header: ifMatch(present.revision) },
              }),
            )
          }
          after={["plans", "upkeep"]}
          confirm="Remove this plan?"
        />
      )}
    </>
  );
}

export function GateForm({ close, ...place }: Place & { close: () => void }) {
  const gates = useQuery({
    queryKey: ["gates"],
    queryFn: () => wholeList(api.GET("/api/v1/gates")),
  });
  const { people, groups } = useSubjects();
  if (!gates.data) return <p role="status">Loading …</p>;
  const present = gates.data.find((gate) => gate.target === target(place));
  const approves = (id: string) =>
    present?.approvers.some((approver) => approver.id === id) ?? false;
  const submit = (data: FormData) => {
    const body = {
      ...place,
      needs_reason: data.get("needs_reason") === "on",
      approver_groups: groups.filter((group) => data.get(group.id)).map((group) => group.id),
      approver_people: people.filter((person) => data.get(person.id)).map((person) => person.id),
      max_minutes: Number(text(data, "max_minutes")),
      one_holder: data.get("one_holder") === "on",
      rotate_on_return: data.get("rotate_on_return") === "on",
    };
    return present
      ? result(
          api.PUT("/api/v1/gates/{gate}", {
            params: { path: { gate: present.id }, header: ifMatch(present.revision) },
            body,
          }),
        )
      : result(api.POST("/api/v1/gates", { body }));
  };
  const tick = (name: string, label: string, checked: boolean | undefined) => (
    <label key={name} className="block">
      <input
        type="checkbox"
        name={name}
        defaultChecked={checked}
        className="checkbox checkbox-xs"
      />{" "}
      {label}
    </label>
  );
  return (
    <>
      {!present && <Empty>No own gate; the gates of its folders and its device apply.</Empty>}
      <Form
        label={present ? "Save gate" : "Add gate"}
        submit={submit}
        after={["gates", "credential", "credentials"]}
        done={close}
      >
        {tick("needs_reason", "Require a reason", present?.needs_reason ?? true)}
        <fieldset className="max-h-40 overflow-y-auto">
          <legend className="text-sm">One of these must approve (none: no approval)</legend>
          {groups.map((group) => tick(group.id, `Group ${group.name}`, approves(group.id)))}
          {people
            .filter((person) => person.state === "active")
            .map((person) => tick(person.id, person.display_name, approves(person.id)))}
        </fieldset>
        <Field
          label="Maximum checkout (minutes)"
          name="max_minutes"
          type="number"
          min={1}
          max={10080}
          defaultValue={present?.max_minutes ?? 60}
          required
        />
        {tick("one_holder", "Only one person at a time", present?.one_holder ?? true)}
        {tick(
          "rotate_on_return",
          "Rotate the password after check-in",
          present?.rotate_on_return ?? true,
        )}
      </Form>
      {present && (
        <Act
          label="Remove the gate"
          run={() =>
            result(
              api.DELETE("/api/v1/gates/{gate}", {
                params: { path: { gate: present.id }, header: ifMatch(present.revision) },
              }),
            )
          }
          after={["gates", "credential", "credentials"]}
          confirm="Remove this gate?"
        />
      )}
    </>
  );
}
