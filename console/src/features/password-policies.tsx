// Password policies, and a generator for passwords that are used elsewhere.

import { useMutation, useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import {
  type Me,
  type PasswordPolicy,
  type PolicyRules,
  type TryResult,
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
  Field,
  Form,
  Page,
  Skeleton,
  text,
  Trouble,
  word,
} from "../parts";
import { lend, useTimes } from "./reveal";

const NUMBERS: [keyof PolicyRules, string][] = [
  ["min_length", "Minimum length (typed)"],
  ["max_length", "Maximum length (typed)"],
  ["min_lower", "Minimum of a–z"],
  ["min_upper", "Minimum of A–Z"],
  ["min_digits", "Minimum of 0–9"],
  ["min_symbols", "Minimum of symbols"],
  ["max_repeats", "Maximum repeats of a character (0: any)"],
  ["max_sequence", "Maximum sequence, such as abc (0: any)"],
  ["not_last", "Former passwords not allowed"],
  ["min_bits", "Minimum entropy (bits, 0: 48)"],
];
const TICKS: [keyof PolicyRules, string][] = [
  ["no_look_alikes", "Do not generate look-alike characters (0 and O, 1 and l)"],
  ["only_these", "Only letters, digits and these symbols, in typed passwords too"],
  ["not_user_name", "Do not allow the user name"],
];
const PLAIN: PolicyRules = {
  length: 20,
  min_length: 14,
  max_length: 255,
  min_lower: 1,
  min_upper: 1,
  min_digits: 1,
  min_symbols: 1,
  symbols: "-_.+=#@%",
  only_these: false,
  forbidden: "",
  first: "any",
  no_look_alikes: true,
  max_repeats: 0,
  max_sequence: 0,
  not_user_name: false,
  not_last: 0,
  words: 0,
  separator: "-",
  min_bits: 0,
};

/** What a policy demands, in words. */
function words(rules: PolicyRules): string {
  const least = [
    [rules.min_lower, "a–z"],
    [rules.min_upper, "A–Z"],
    [rules.min_digits, "0–9"],
    [rules.min_symbols, rules.symbols],
  ].filter(([count]) => count !== 0);
  const parts = [
    rules.words > 0
      ? `phrases of ${rules.words} words with “${rules.separator}” between`
      : `${rules.length} characters`,
    `typed ones ${rules.min_length} to ${rules.max_length}`,
    least.length > 0 && `at least ${least.map(([count, of]) => `${count} of ${of}`).join(", ")}`,
    rules.only_these && "nothing but letters, digits and these symbols",
    rules.forbidden && `never ${rules.forbidden}`,
    rules.first !== "any" && `begins with a ${rules.first.replaceAll("-", " ")}`,
    rules.no_look_alikes && "no look-alike characters",
    rules.max_repeats > 0 && `a character at most ${rules.max_repeats} times in a row`,
    rules.max_sequence > 0 && `at most ${rules.max_sequence} in order`,
    rules.not_user_name && "without the user name",
    rules.not_last > 0 && `none of the last ${rules.not_last}`,
  ];
  return parts.filter(Boolean).join("; ");
}

function rulesOf(data: FormData): PolicyRules {
  const numbers = Object.fromEntries(
    [...NUMBERS.map(([name]) => name), "length", "words"].map((name) => [
      name,
      Number(text(data, name)),
    ]),
  );
  const ticks = Object.fromEntries(TICKS.map(([name]) => [name, data.get(name) === "on"]));
  return {
    ...PLAIN,
    ...numbers,
    ...ticks,
    symbols: text(data, "symbols"),
    forbidden: text(data, "forbidden"),
    first: word<PolicyRules["first"]>(data, "first"),
    separator: text(data, "separator"),
  };
}

/** What rules make, and what a password lacks by them, before anything is stored. */
function Trying({ tried }: { tried: TryResult }) {
  return (
    <div role="status" className="rounded-box border border-base-300 bg-base-100 p-2">
      {tried.score === null ? (
        <ul className="font-mono">
          {tried.samples.map((sample) => (
            <li key={sample} className="break-all">
              {sample}
            </li>
          ))}
        </ul>
      ) : (
        <>
          {tried.lacks.length === 0 ? (
            <p>It complies with the policy.</p>
          ) : (
            tried.lacks.map((lack) => <p key={lack}>It does not comply: {lack}.</p>)
          )}
          <p>Its strength is {tried.score} of 4.</p>
        </>
      )}
      <p className="quiet">{tried.bits} bits of entropy each; nothing is stored.</p>
    </div>
  );
}

function PolicyForm({ present, close }: { present?: PasswordPolicy; close: () => void }) {
  const rules: PolicyRules = { ...PLAIN, ...present?.rules };
  const form = useRef<HTMLDivElement>(null);
  const [phrases, setPhrases] = useState(rules.words > 0);
  const submit = (data: FormData) => {
    const body = { name: text(data, "name"), rules: rulesOf(data) };
    return present
      ? result(
          api.PUT("/api/v1/password-policies/{policy}", {
            params: { path: { policy: present.id }, header: ifMatch(present.revision) },
            body,
          }),
        )
      : result(api.POST("/api/v1/password-policies", { body }));
  };
  const tried = useMutation({
    mutationFn: () => {
      const data = new FormData(form.current?.closest("form") ?? undefined);
      return result(
        api.POST("/api/v1/password-policies/try", {
          body: {
            rules: rulesOf(data),
            password: text(data, "candidate") || undefined,
          },
        }),
      );
    },
  });
  return (
    <Form
      label={present ? "Save policy" : "Add policy"}
      submit={submit}
      after={["policies", "credentials"]}
      done={close}
    >
      <Field label="Name" name="name" defaultValue={present?.name} required />
      <Choice
        label="Generated passwords are"
        name="sort"
        value={phrases ? "words" : "characters"}
        onChange={(event) => setPhrases(event.target.value === "words")}
        options={[
          ["characters", "characters"],
          ["words", "phrases of words"],
        ]}
      />
      <div ref={form} className="grid gap-2 sm:grid-cols-2">
        {phrases ? (
          <>
            <Field
              label="Words"
              name="words"
              type="number"
              min={1}
              max={24}
              defaultValue={String(rules.words || 6)}
              required
            />
            <Field label="Separator" name="separator" defaultValue={rules.separator} />
            <input type="hidden" name="length" value={rules.length} />
          </>
        ) : (
          <Field
            label="Characters"
            name="length"
            type="number"
            min={1}
            max={255}
            defaultValue={String(rules.length)}
            required
          />
        )}
        {NUMBERS.map(([name, label]) => (
          <Field
            key={name}
            label={label}
            name={name}
            type="number"
            min={0}
            max={255}
            defaultValue={String(rules[name])}
            required
          />
        ))}
        <Field label="Allowed symbols" name="symbols" defaultValue={rules.symbols} />
        <Field label="Forbidden characters" name="forbidden" defaultValue={rules.forbidden} />
        <Choice
          label="Begins with"
          name="first"
          defaultValue={rules.first}
          options={[
            ["any", "anything"],
            ["letter", "a letter"],
            ["letter-or-digit", "a letter or digit"],
          ]}
        />
      </div>
      {TICKS.map(([name, label]) => (
        <label key={name}>
          <input
            type="checkbox"
            name={name}
            defaultChecked={Boolean(rules[name])}
            className="checkbox checkbox-xs"
          />{" "}
          {label}
        </label>
      ))}
      <div className="flex items-end gap-2">
        <Field
          label="Password to test (empty: samples)"
          name="candidate"
          type="password"
          autoComplete="off"
        />
        <button
          type="button"
          className="btn btn-sm"
          onClick={() => tried.mutate()}
          disabled={tried.isPending}
        >
          Try
        </button>
      </div>
      <Trouble error={tried.error} />
      {tried.data && <Trying tried={tried.data} />}
    </Form>
  );
}

function Generator({ policies }: { policies: PasswordPolicy[] }) {
  const [policy, setPolicy] = useState("");
  const times = useTimes();
  const made = useMutation({
    mutationFn: () => result(api.POST("/api/v1/generate", { params: { query: { policy } } })),
  });
  return (
    <div className="max-w-md">
      <Choice
        label="Policy"
        name="policy"
        value={policy}
        onChange={(event) => setPolicy(event.target.value)}
        options={[
          ["", "the default"],
          ...policies.map((each): [string, string] => [each.id, each.name]),
        ]}
      />
      <div className="mt-2 flex gap-2">
        <button
          type="button"
          className="btn btn-primary btn-sm"
          onClick={() => made.mutate()}
          disabled={made.isPending}
        >
          Generate
        </button>
        {made.data && (
          <Act label="Copy" run={() => lend("password", made.data.password, times.clipboard)} />
        )}
        {made.data && (
          <button type="button" className="btn btn-sm" onClick={() => made.reset()}>
            Hide
          </button>
        )}
      </div>
      {made.data && (
        <output
          aria-label="The generated password"
          className="mt-2 block rounded-box border border-base-300 bg-base-200 p-3 font-mono text-2xl break-all"
        >
          {made.data.password}
        </output>
      )}
      <Trouble error={made.error} />
    </div>
  );
}

function PolicyRow({ policy, may }: { policy: PasswordPolicy; may: boolean }) {
  return (
    <li className="flex flex-wrap items-center justify-between gap-x-4 gap-y-2 py-2">
      <div className="min-w-60 flex-1">
        <strong>{policy.name}</strong>
        {policy.is_default && <span className="badge badge-sm ml-2">default</span>}
        <p className="quiet">{words({ ...PLAIN, ...policy.rules })}</p>
      </div>
      {may && (
        <div className="flex flex-wrap gap-2">
          <DrawerButton label="Edit" more={policy.name} title={`Edit ${policy.name}`} wide>
            {(close) => <PolicyForm present={policy} close={close} />}
          </DrawerButton>
          {!policy.is_default && (
            <>
              <Act
                label="Make default"
                of={policy.name}
                run={() =>
                  result(
                    api.POST("/api/v1/password-policies/{policy}/default", {
                      params: { path: { policy: policy.id } },
                    }),
                  )
                }
                after={["policies"]}
              />
              <Act
                label="Remove"
                of={policy.name}
                danger
                run={() =>
                  result(
                    api.DELETE("/api/v1/password-policies/{policy}", {
                      params: { path: { policy: policy.id }, header: ifMatch(policy.revision) },
                    }),
                  )
                }
                after={["policies"]}
                confirm={`Remove the policy ${policy.name}?`}
              />
            </>
          )}
        </div>
      )}
    </li>
  );
}

export function Passwords({ me }: { me: Me }) {
  const policies = useQuery({
    queryKey: ["policies"],
    queryFn: () => wholeList(api.GET("/api/v1/password-policies")),
  });
  const may = me.duties.includes("policy");
  return (
    <Page
      title="Policies"
      note="Passwords are generated by the default policy, in a folder by the one that the folder names, and in a rotation by the one that the upkeep plan names."
      actions={
        may && (
          <DrawerButton label="Add a policy" look="btn-sm btn-primary" wide>
            {(close) => <PolicyForm close={close} />}
          </DrawerButton>
        )
      }
    >
      <Trouble error={policies.error} />
      <div className="grid items-start gap-4 xl:grid-cols-[2fr_1fr]">
        <Card title="Password policies">
          {policies.isPending && <Skeleton />}
          <ul className="divide-y divide-base-300">
            {policies.data?.map((policy) => (
              <PolicyRow key={policy.id} policy={policy} may={may} />
            ))}
          </ul>
          {!may && <p className="quiet">Changing policies needs the duty “policy”.</p>}
        </Card>
        <Card title="Generate a password">
          <p className="quiet mb-2">It is not stored.</p>
          <Generator policies={policies.data ?? []} />
        </Card>
      </div>
    </Page>
  );
}
