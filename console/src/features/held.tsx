// An open checkout, as the Checkouts page and Home show it.

import type { Checkout } from "../api";
import { CredentialLink, Left, Progress, useNow } from "../parts";
import { CheckIn } from "./check-in";

/** One that is open: how long it lasts, and the way to end it. */
export function Held({ held }: { held: Checkout }) {
  const whole = Date.parse(held.ends_at) - Date.parse(held.starts_at);
  const left = Math.max(0, Date.parse(held.ends_at) - useNow(5000));
  return (
    <li className="py-2">
      <div className="flex items-baseline justify-between gap-2">
        <CredentialLink id={held.credential} path={held.credential_path} />
        <span className="font-mono">
          <Left until={held.ends_at} />
        </span>
      </div>
      <Progress
        label={`Time left of ${held.credential_path}`}
        value={left}
        of={whole}
        className="my-1 w-full"
      />
      <div className="flex items-center justify-between gap-2">
        <span className="quiet">
          {held.rotate_on_return ? "The password is rotated afterwards." : held.reason}
        </span>
        <CheckIn checkout={held.id} />
      </div>
    </li>
  );
}
