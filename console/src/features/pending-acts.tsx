// Acts that wait for a second person: confirmed or refused by one, withdrawn by who proposed them.

import { useState } from "react";
import { type PendingAct, api, result } from "../api";
import { Act, Field, State, When, told } from "../parts";

function Decide({ act }: { act: PendingAct }) {
  const [comment, setComment] = useState("");
  const after = ["overview", "pending", "people", "groups", "gates", "credential", "settings"];
  const confirm = async () => {
    const done = await result(
      api.POST("/api/v1/pending-acts/{act}/confirm", {
        params: { path: { act: act.id } },
        body: {
          comment,
        },
      }),
    );
    if (done.secret) told(`The new secret, shown only now: ${done.secret}`);
  };
  return (
    <div className="mt-1 flex flex-wrap items-end gap-2">
      {act.may_confirm && (
        <>
          <Field
            label={`Comment to ${act.proposed_by}`}
            name="comment"
            value={comment}
            onChange={(event) => setComment(event.target.value)}
          />
          <Act
            label="Confirm"
            of={act.summary}
            run={confirm}
            after={after}
            look="btn-sm btn-primary"
            confirm={`${act.summary}? It is carried out at once, and the audit log names both of you.`}
          />
          <Act
            label="Refuse"
            of={act.summary}
            run={() =>
              result(
                api.POST("/api/v1/pending-acts/{act}/refuse", {
                  params: { path: { act: act.id } },
                  body: { comment },
                }),
              )
            }
            after={after}
          />
        </>
      )}
      {act.own && (
        <Act
          label="Withdraw"
          of={act.summary}
          run={() =>
            result(
              api.POST("/api/v1/pending-acts/{act}/withdraw", {
                params: { path: { act: act.id } },
                body: { comment: "" },
              }),
            )
          }
          after={after}
          look="btn-sm btn-ghost"
        />
      )}
    </div>
  );
}

export function Pending({ acts }: { acts: PendingAct[] }) {
  return (
    <ul className="flex flex-col gap-3">
      {acts.map((act) => (
        <li key={act.id} className="border-l-4 border-info pl-3">
          <State word={act.state} /> <strong>{act.summary}</strong>
          <p className="quiet">
            proposed by {act.proposed_by}, <When at={act.proposed_at} />; expires{" "}
            <When at={act.expires_at} />
          </p>
          <Decide act={act} />
        </li>
      ))}
    </ul>
  );
}
