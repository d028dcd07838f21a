// Password policies, and a generator for passwords that are used elsewhere.

import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Me, type PasswordPolicy, type PolicyRules, all, api } from "../api";
import { Act, Card, Choice, Field, Fold, Form, Trouble, text } from "../parts";

const NUMBERS: [keyof PolicyRules, string][] = [
  ["length", "Characters of a generated password"],
  ["shortest", "Fewest characters of a typed one"],
  ["lower", "Least of a to z"],
  ["upper", "Least of A to Z"],
  ["digits", "Least of 0 to 9"],
  ["symbols_least", "Least of the symbols"],
];
const PLAIN: PolicyRules = { length: 20, shortest: 14, lower: 1, upper: 1, digits: 1, symbols_least: 1, symbols: "-_.+=#@%", no_look_alikes: true };

/** What a policy demands, in words. */
function words(rules: PolicyRules): string {
  const least = [
    [rules.lower, "a–z"],
    [rules.upper, "A–Z"],
    [rules.digits, "0–9"],
    [rules.symbols_least, rules.symbols],
  ].filter(([count]) => count !== 0);
  return `${rules.length} characters, typed ones at least ${rules.shortest}; at least ${least.map(([count, of]) => `${count} of ${of}`).join(", ") || "nothing in particular"}${rules.no_look_alikes ? "; nothing that looks like something else" : ""}`;
}

function PolicyForm({ present, close }: { present?: PasswordPolicy; close: () => void }) {
  const rules = present?.rules ?? PLAIN;
  const submit = (data: FormData) => {
    const numbers = Object.fromEntries(NUMBERS.map(([name]) => [name, Number(text(data, name))]));
    const body = { name: text(data, "name"), rules: { ...numbers, symbols: text(data, "symbols"), no_look_alikes: data.get("no_look_alikes") === "on" } };
    return present ? api.put(`/password-policies/${present.id}`, body, present.version) : api.post("/password-policies", body);
  };
  return (
    <Form label={present ? "Change the policy" : "Add the policy"} submit={submit} after={["policies"]} done={close}>
      <Field label="Name" name="name" defaultValue={present?.name} required />
      <div className="grid grid-cols-2 gap-2">
        {NUMBERS.map(([name, label]) => (
          <Field key={name} label={label} name={name} type="number" min={0} max={255} defaultValue={String(rules[name])} required />
        ))}
      </div>
      <Field label="Symbols that may occur" name="symbols" defaultValue={rules.symbols} />
      <label>
        <input type="checkbox" name="no_look_alikes" defaultChecked={rules.no_look_alikes} className="checkbox checkbox-xs" /> No characters that look like others (0 and O, 1 and l)
      </label>
    </Form>
  );
}

function Generator({ policies }: { policies: PasswordPolicy[] }) {
  const [policy, setPolicy] = useState("");
  const made = useMutation({ mutationFn: () => api.post<{ password: string }>(`/generate?policy=${policy}`) });
  return (
    <div className="max-w-md">
      <Choice label="By the policy" name="policy" value={policy} onChange={(event) => setPolicy(event.target.value)} options={[["", "the default"], ...policies.map((each): [string, string] => [each.id, each.name])]} />
      <div className="mt-2 flex gap-2">
        <button type="button" className="btn btn-primary btn-sm" onClick={() => made.mutate()} disabled={made.isPending}>
          Generate
        </button>
        {made.data && <Act label="Copy" run={() => navigator.clipboard.writeText(made.data.password)} />}
        {made.data && (
          <button type="button" className="btn btn-sm" onClick={() => made.reset()}>
            Hide
          </button>
        )}
      </div>
      {made.data && (
        <output aria-label="The generated password" className="mt-2 block rounded-box border border-base-300 bg-base-200 p-3 font-mono text-2xl break-all">
          {made.data.password}
        </output>
      )}
      <Trouble error={made.error} />
    </div>
  );
}

export function Passwords({ me }: { me: Me }) {
  const policies = useQuery({ queryKey: ["policies"], queryFn: () => all<PasswordPolicy>("/password-policies") });
  const may = me.duties.includes("policy");
  return (
    <div className="flex flex-col gap-3">
      <h1 className="text-xl font-semibold">Passwords</h1>
      <Trouble error={policies.error} />
      <div className="grid items-start gap-3 xl:grid-cols-[3fr_2fr]">
        <Card title="Password policies">
          <p className="quiet">What the generator makes: for new credentials by the default policy, in rotations by the one that the upkeep plan names.</p>
          <ul className="mt-2 flex flex-col gap-2">
            {policies.data?.map((policy) => (
              <li key={policy.id}>
                <strong>{policy.name}</strong>
                {policy.is_default && <span className="badge badge-sm ml-2">default</span>}
                <p>{words(policy.rules)}</p>
                {may && <Fold label={`Change ${policy.name}`}>{(close) => <PolicyForm present={policy} close={close} />}</Fold>}
              </li>
            ))}
          </ul>
          {may ? <Fold label="Add a policy">{(close) => <PolicyForm close={close} />}</Fold> : <p className="quiet mt-2">Changing policies takes the duty “policy”.</p>}
        </Card>
        <Card title="Generate one for use elsewhere">
          <p className="quiet mb-2">It is stored nowhere.</p>
          <Generator policies={policies.data ?? []} />
        </Card>
      </div>
    </div>
  );
}
