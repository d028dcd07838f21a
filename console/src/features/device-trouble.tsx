// What keeps passwords from a device: shown with it, and on Home.

import { type Device, api, ifMatch, result } from "../api";
import { Act, State, When, told } from "../parts";

const AFTER = ["devices", "upkeep", "overview"];

/** What keeps passwords from a device, and the one step that fixes it. */
export function DeviceTrouble({ device }: { device: Device }) {
  const suspended = device.bindings.filter((binding) => binding.suspended);
  const confirm = async () => {
    const done = await result(
      api.POST("/api/v1/devices/{device}/confirm-bindings", {
        params: { path: { device: device.id }, header: ifMatch(device.revision) },
      }),
    );
    told(
      `${done.confirmed} confirmed${done.left > 0 ? `; ${done.left} left for somebody who may see the password` : ""}.`,
    );
  };
  return (
    <>
      {device.identity.length === 0 && (
        <p className="text-sm">Its identity is not confirmed: no password is sent.</p>
      )}
      {suspended.length > 0 && (
        <div className="flex flex-wrap items-center gap-2">
          <State word="suspended" />
          <span>
            {suspended.length} of {device.bindings.length} bindings are suspended.
          </span>
          {device.identity.length > 0 && (
            <Act
              label="Confirm bindings"
              of={device.name}
              run={confirm}
              after={AFTER}
              confirm={`Passwords that you may reveal are sent to ${device.address} port ${device.port} again, once it proves its identity. Is this the right device?`}
            />
          )}
        </div>
      )}
      {device.paused_at && (
        <div className="flex flex-wrap items-center gap-2">
          <State word="paused" />
          <span>
            {device.paused_why}, since <When at={device.paused_at} />
          </span>
          <Act
            label="Resume"
            of={device.name}
            run={() =>
              result(
                api.POST("/api/v1/devices/{device}/resume", {
                  params: { path: { device: device.id }, header: ifMatch(device.revision) },
                }),
              )
            }
            after={AFTER}
          />
        </div>
      )}
    </>
  );
}
