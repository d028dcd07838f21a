// A pending request, as the Requests page and Home show it.

import { Check } from "lucide-react";
import { useState } from "react";
import { type Request, api, result } from "../api";
import { Act, Ago, CredentialLink } from "../parts";

/** Who asks for what, why, and since when. */
export function Asks({ request }: { request: Request }) {
  return (
    <>
      <p>
        <strong>{request.person_name}</strong> asks for{" "}
        <CredentialLink id={request.credential} path={request.credential_path} /> for{" "}
        {request.minutes} min
      </p>
      <p className="quiet">
        “{request.reason}” · <Ago at={request.asked_at} />
      </p>
    </>
  );
}

/** Approve or refuse, with a comment. */
export function Decision({ request }: { request: Request }) {
  const [comment, setComment] = useState("");
  const told = { params: { path: { request: request.id } }, body: { comment } };
  const settle = (what: "approve" | "refuse") =>
    what === "approve"
      ? result(api.POST("/api/v1/requests/{request}/approve", told))
      : result(api.POST("/api/v1/requests/{request}/refuse", told));
  const after = ["overview", "requests"];
  return (
    <div className="mt-1.5 flex flex-wrap items-center gap-2">
      <Act
        label="Approve"
        icon={<Check className="size-4" aria-hidden="true" />}
        of={`the request of ${request.person_name}`}
        run={() => settle("approve")}
        after={after}
        look="btn-sm btn-primary"
      />
      <Act
        label="Refuse"
        of={`the request of ${request.person_name}`}
        run={() => settle("refuse")}
        after={after}
      />
      <input
        className="input input-sm min-w-40 grow"
        aria-label={`Comment to ${request.person_name}`}
        placeholder="Comment, if you like"
        value={comment}
        onChange={(event) => setComment(event.target.value)}
      />
    </div>
  );
}
