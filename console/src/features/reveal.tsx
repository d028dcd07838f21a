// A secret on the screen: masked until asked for, large, spelt, copied, hidden again.

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { type Credential, type Me, type OneTimeCode, type Revealed, api, result } from "../api";
import {
  Act,
  CodeText,
  Empty,
  Field,
  Form,
  Left,
  Progress,
  SecretText,
  State,
  Trouble,
  text,
  told,
} from "../parts";
import { MAIN, SEED } from "./credential-fields";
import { atLeast } from "./access-levels";

const SPELT: Record<string, string> = {
  "0": "zero",
  O: "capital O",
  o: "small o",
  "1": "one",
  l: "small L",
  I: "capital i",
  i: "small i",
  "-": "hyphen",
  _: "underscore",
  ".": "full stop",
  "+": "plus",
  "=": "equals",
  "#": "hash",
  "@": "at",
  "%": "per cent",
  " ": "space",
};

function spell(value: string): string {
  return [...value]
    .map((letter) => SPELT[letter] ?? (/[A-Z]/.test(letter) ? `capital ${letter}` : letter))
    .join(", ");
}

/** How long things are shown and lent to the clipboard, as the organisation has set it. */
export function useTimes(): { hide: number; clipboard: number } {
  const settings = useQuery({
    queryKey: ["settings"],
    queryFn: () => result(api.GET("/api/v1/settings")),
    staleTime: 300_000,
  });
  return {
    hide: Number(settings.data?.settings.hide_seconds ?? 30),
    clipboard: Number(settings.data?.settings.clipboard_seconds ?? 30),
  };
}

/** Puts a text into the clipboard and takes it out again after a while. */
export async function lend(what: string, value: string, seconds: number): Promise<void> {
  try {
    await navigator.clipboard.writeText(value);
  } catch {
    return told("This browser does not let the console use the clipboard.");
  }
  const clear = () => navigator.clipboard.writeText("").catch(() => undefined);
  const timer = setTimeout(() => void clear(), seconds * 1000);
  const now = async () => {
    clearTimeout(timer);
    await clear();
  };
  told(`The ${what} is in the clipboard for ${seconds} seconds.`, now, "Clear it now");
}

export function Shown({
  shown,
  hide,
  other,
  copied,
}: {
  shown: Revealed;
  hide: () => void;
  other?: string;
  /** There is a button that copies it beside this. */
  copied?: boolean;
}) {
  const times = useTimes();
  const [left, setLeft] = useState(times.hide);
  const [spelt, setSpelt] = useState(false);
  useEffect(() => {
    const timer = setInterval(() => setLeft((before) => before - 1), 1000);
    return () => clearInterval(timer);
  }, []);
  useEffect(() => {
    if (left <= 0) hide();
  }, [left, hide]);
  const long = shown.value.length > 60;
  return (
    <div className="mb-2">
      <SecretText value={shown.value} other={other} />
      {spelt && <p className="mt-1">{spell(shown.value)}</p>}
      <div className="mt-2 flex flex-wrap items-center gap-2">
        {!copied && (
          <button
            type="button"
            className="btn btn-sm"
            onClick={() => void lend("secret", shown.value, times.clipboard)}
          >
            Copy
          </button>
        )}
        {!long && (
          <button
            type="button"
            className="btn btn-sm"
            aria-pressed={spelt}
            onClick={() => setSpelt(!spelt)}
          >
            Spell it
          </button>
        )}
        <button type="button" className="btn btn-sm" onClick={hide}>
          Hide
        </button>
        <span className="quiet tabular-nums">hides itself in {left} s</span>
      </div>
    </div>
  );
}

/** The way to the secrets: what it costs is said before they are asked for. */
export function Secret({
  it,
  me,
  label,
}: {
  it: Credential;
  me: Me;
  label: (field: string) => string;
}) {
  const client = useQueryClient();
  const [shown, setShown] = useState<Revealed | null>(null);
  const held = useQuery({
    queryKey: ["checkouts", it.id],
    queryFn: () =>
      result(
        api.GET("/api/v1/checkouts", { params: { query: { open: true, credential: it.id } } }),
      ),
    enabled: Boolean(it.gate),
  });
  const asked = useQuery({
    queryKey: ["requests", "of", it.id],
    queryFn: () =>
      result(api.GET("/api/v1/requests", { params: { query: { limit: 20, credential: it.id } } })),
    enabled: Boolean(it.gate),
  });
  const reveal = useMutation({
    mutationFn: (field: string) =>
      result(
        api.POST("/api/v1/credentials/{credential}/reveal", {
          params: { path: { credential: it.id } },
          body: { field },
        }),
      ),
    onSuccess: setShown,
  });
  const mine = held.data?.items.find((each) => each.person === me.id);
  const other = held.data?.items.find((each) => each.person !== me.id);
  const request = asked.data?.items.find(
    (each) =>
      each.person === me.id &&
      (each.state === "waiting" || (each.state === "approved" && !each.checkout)),
  );
  const after = ["checkouts", "requests", "overview", "credential"];
  if (shown)
    return <Shown shown={shown} hide={() => setShown(null)} copied={shown.field === MAIN} />;
  const may = atLeast(it.level, "reveal");
  const gate = it.gate;
  const others = it.secret_fields.filter((field) => field !== MAIN && field !== SEED);
  const open = may && (!gate || mine);
  return (
    <div className="my-2">
      {it.secret_fields.includes(MAIN) && (
        <p className="font-mono text-xl tracking-widest" aria-label="The secret is hidden">
          ••••••••••••
        </p>
      )}
      {gate && (
        <p className="quiet">
          {gate.gates.length === 1
            ? "This credential has a gate"
            : `This credential has ${gate.gates.length} gates`}
          , set on {gate.gates.map((each) => each.place).join(" and ")}:{" "}
          {[
            gate.needs_reason && "a reason",
            ...gate.gates
              .filter((each) => each.needs_approval)
              .map(
                (each) =>
                  `an approval by ${each.approvers.map((approver) => approver.name).join(" or ")}`,
              ),
            `at most ${gate.max_minutes} minutes`,
            gate.one_holder && "one person at a time",
            gate.rotate_on_return && "rotated afterwards",
          ]
            .filter(Boolean)
            .join(", ")}
          .
        </p>
      )}
      {other && (
        <p>
          <State word="waiting" /> {other.person_name} holds it; <Left until={other.ends_at} />{" "}
          left.
          {atLeast(it.level, "steward") && (
            <>
              {" "}
              <Act
                label="Recall"
                look="btn-xs"
                run={() =>
                  result(
                    api.POST("/api/v1/checkouts/{checkout}/recall", {
                      params: { path: { checkout: other.id } },
                    }),
                  )
                }
                after={after}
                confirm={`Recall the checkout of ${other.person_name}? It ends at once${other.rotate_on_return ? ", and the password is rotated" : ""}.`}
              />
            </>
          )}
        </p>
      )}
      {mine && (
        <p className="font-medium">
          Checked out to you; <Left until={mine.ends_at} /> left.
        </p>
      )}
      {request && (
        <p>
          <State word={request.state} /> your request{request.comment && `: “${request.comment}”`}
        </p>
      )}
      <div className="mt-1 flex flex-wrap items-start gap-2">
        {open && it.secret_fields.includes(MAIN) && (
          <button
            type="button"
            className="btn btn-primary btn-sm"
            data-key="r"
            title="R"
            onClick={() => reveal.mutate(MAIN)}
            disabled={reveal.isPending}
          >
            Reveal {reveal.isPending && "…"}
          </button>
        )}
        {open &&
          others.map((field) => (
            <button
              key={field}
              type="button"
              className="btn btn-sm"
              onClick={() => reveal.mutate(field)}
              disabled={reveal.isPending}
            >
              Reveal {label(field).toLowerCase()}
            </button>
          ))}
        {mine && (
          <Act
            label="Check in"
            run={() =>
              result(
                api.POST("/api/v1/checkouts/{checkout}/check-in", {
                  params: { path: { checkout: mine.id } },
                }),
              )
            }
            after={after}
          />
        )}
        {request?.state === "approved" && !mine && (
          <Act
            label="Check out"
            look="btn-sm btn-primary"
            run={() => result(api.POST("/api/v1/checkouts", { body: { request: request.id } }))}
            after={after}
          />
        )}
        {request && !mine && (
          <Act
            label="Withdraw"
            look="btn-sm btn-ghost"
            run={() =>
              result(
                api.POST("/api/v1/requests/{request}/withdraw", {
                  params: { path: { request: request.id } },
                  body: {},
                }),
              )
            }
            after={after}
          />
        )}
      </div>
      {gate && !mine && !request && (
        <Form
          label={gate.needs_approval ? "Request checkout" : "Check out"}
          after={after}
          submit={(data) => {
            const body = {
              credential: it.id,
              reason: text(data, "reason"),
              minutes: Number(text(data, "minutes")),
            };
            return gate.needs_approval
              ? result(api.POST("/api/v1/requests", { body }))
              : result(api.POST("/api/v1/checkouts", { body }));
          }}
        >
          <Field label="Reason" name="reason" required={gate.needs_reason} />
          <Field
            label="Minutes"
            name="minutes"
            type="number"
            min={1}
            max={gate.max_minutes}
            defaultValue={Math.min(30, gate.max_minutes)}
          />
        </Form>
      )}
      {!may && !gate && (
        <Empty>
          Your level is {it.level}, which does not show it. A steward of the folder can grant
          “reveal”.
        </Empty>
      )}
      <Trouble error={reveal.error} />
      {reveal.error && (
        <button
          type="button"
          className="link"
          onClick={() => void client.invalidateQueries({ queryKey: ["credential", it.id] })}
        >
          Reload
        </button>
      )}
    </div>
  );
}

/** The current one-time code, for everybody who may use the credential. It is asked for once, and
 * again by a press: every look is in the audit log. */
export function Codes({ it }: { it: Credential }) {
  const times = useTimes();
  const [code, setCode] = useState<OneTimeCode | null>(null);
  const [left, setLeft] = useState(0);
  const look = useMutation({
    mutationFn: () =>
      result(
        api.POST("/api/v1/credentials/{credential}/code", {
          params: { path: { credential: it.id } },
        }),
      ),
    onSuccess: (found) => {
      setCode(found);
      setLeft(found.left ?? times.hide);
    },
  });
  useEffect(() => {
    if (!code) return;
    const timer = setInterval(() => setLeft((before) => before - 1), 1000);
    return () => clearInterval(timer);
  }, [code]);
  const fresh = left > 0 ? code : null;
  return (
    <div className="my-1 flex flex-wrap items-center gap-2">
      {fresh && (
        <>
          <CodeText digits={fresh.digits} />
          {fresh.period && (
            <Progress
              label="Time left for this code"
              value={left}
              of={fresh.period}
              className="w-24"
            />
          )}
          <span className="quiet tabular-nums">
            {fresh.period ? `${left} s left` : "valid once; the next reveal uses the next code"}
          </span>
          <button
            type="button"
            className="btn btn-sm"
            onClick={() => void lend("code", fresh.digits, times.clipboard)}
          >
            Copy
          </button>
        </>
      )}
      {!fresh && (
        <button
          type="button"
          className="btn btn-sm"
          data-key="o"
          title="O"
          onClick={() => look.mutate()}
          disabled={look.isPending}
        >
          One-time code {look.isPending && "…"}
        </button>
      )}
      <Trouble error={look.error} />
    </div>
  );
}
