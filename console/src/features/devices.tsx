// Devices: where they are, how they prove who they are, which passwords go to them, and who changes
// their accounts.

import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import {
  type CredentialItem,
  type Device,
  type DeviceIdentity,
  api,
  result,
  all,
  ifMatch,
} from "../api";
import {
  Act,
  Card,
  Choice,
  Empty,
  Field,
  Fold,
  Form,
  Lines,
  State,
  Table,
  Trouble,
  When,
  text,
  told,
} from "../components";
import { CredentialLink } from "./credential-link";

const AFTER = ["devices", "upkeep", "overview"];

function Edit({
  device,
  accounts,
  operator,
  close,
}: {
  device: Device;
  accounts: CredentialItem[];
  operator: CredentialItem | undefined;
  close: () => void;
}) {
  // The operator may be an account of another device, such as one that stands before this one.
  const choices =
    operator && !accounts.some((account) => account.id === operator.id)
      ? [operator, ...accounts]
      : accounts;
  const submit = (data: FormData) => {
    const typed = {
      name: text(data, "name"),
      address: text(data, "address"),
      port: Number(text(data, "port")),
    };
    const moved = typed.address !== device.address || typed.port !== device.port;
    const chosen = text(data, "operator");
    // An unchanged address is not sent: a new one suspends the bindings.
    return result(
      api.PATCH("/api/v1/devices/{device}", {
        params: { path: { device: device.id }, header: ifMatch(device.revision) },
        body: {
          name: typed.name,
          ...(moved && { address: typed.address, port: typed.port }),
          ...(chosen === "none"
            ? { no_operator: true }
            : chosen && chosen !== device.operator && { operator: chosen }),
        },
      }),
    );
  };
  return (
    <>
      <Form label="Save" submit={submit} after={AFTER} done={close}>
        <Field label="Name" name="name" defaultValue={device.name} required />
        <Field
          label="Address"
          name="address"
          defaultValue={device.address}
          required
          hint="A new address or port suspends the bindings until a person who may see the passwords confirms them."
        />
        <Field
          label="Port"
          name="port"
          type="number"
          min={1}
          max={65535}
          defaultValue={device.port}
          required
        />
        <Choice
          label="Operator: changes the passwords of the other accounts"
          name="operator"
          defaultValue={device.operator ?? "none"}
          options={[
            ["none", "None: accounts change their own passwords"],
            ...choices.map((account): [string, string] => [
              account.id,
              `${account.name} (${account.user_name})`,
            ]),
          ]}
        />
      </Form>
      <div className="mt-2 border-t border-base-300 pt-2">
        <Act
          label={`Remove ${device.name}`}
          run={() =>
            result(
              api.DELETE("/api/v1/devices/{device}", {
                params: { path: { device: device.id }, header: ifMatch(device.revision) },
              }),
            )
          }
          after={AFTER}
          confirm={`Remove ${device.name}?`}
        />
      </div>
    </>
  );
}

/** What a device must prove before a password is sent to it, and what answers now. */
function Identity({ device, close }: { device: Device; close: () => void }) {
  const [shown, setShown] = useState<DeviceIdentity[]>();
  const confirmed = (identity: DeviceIdentity) =>
    device.identity.some((known) => known.fingerprint === identity.fingerprint);
  const read = async () =>
    setShown(
      (
        await result(
          api.POST("/api/v1/devices/{device}/read-identity", {
            params: { path: { device: device.id } },
          }),
        )
      ).items,
    );
  const byHand = (data: FormData) =>
    result(
      api.PATCH("/api/v1/devices/{device}", {
        params: { path: { device: device.id }, header: ifMatch(device.revision) },
        body: {
          identity: text(data, "lines")
            .split("\n")
            .filter((line) => line.trim()),
        },
      }),
    );
  return (
    <div className="flex flex-col gap-2">
      <p className="quiet">
        Compare a fingerprint with the device’s own before you confirm it, for example with
        ssh-keygen -l on its console.
      </p>
      {device.identity.length === 0 && (
        <p>The identity is not confirmed yet; no password is sent.</p>
      )}
      <ul>
        {device.identity.map((identity) => (
          <li key={identity.line}>
            <State word="confirmed" /> {identity.kind}{" "}
            <span className="font-mono break-all">{identity.fingerprint}</span>
          </li>
        ))}
      </ul>
      <Act label="Read the identity" run={read} />
      {shown && (
        <ul className="flex flex-col gap-1">
          {shown.map((identity) => (
            <li key={identity.line} className="flex flex-wrap items-center gap-2">
              <span>
                answers now: {identity.kind}{" "}
                <span className="font-mono break-all">{identity.fingerprint}</span>
              </span>
              {confirmed(identity) ? (
                <State word="confirmed" />
              ) : (
                <Act
                  label="Confirm this identity"
                  look="btn-sm btn-primary"
                  run={() =>
                    result(
                      api.PATCH("/api/v1/devices/{device}", {
                        params: { path: { device: device.id }, header: ifMatch(device.revision) },
                        body: { identity: [identity.line] },
                      }),
                    )
                  }
                  after={AFTER}
                  confirm={`Passwords are sent to whatever presents ${identity.fingerprint}. Have you compared it on ${device.name} itself?`}
                />
              )}
            </li>
          ))}
        </ul>
      )}
      <Fold label="Enter an identity by hand">
        {() => (
          <Form label="Set the identity" submit={byHand} after={AFTER} done={close}>
            <Lines
              label="Host keys, known_hosts lines, SSHFP records or SHA256 fingerprints, one per line"
              name="lines"
              rows={3}
              defaultValue={device.identity.map((identity) => identity.line).join("\n")}
            />
          </Form>
        )}
      </Fold>
    </div>
  );
}

function Bindings({ device }: { device: Device }) {
  return (
    <Table
      label={`Passwords that may be sent to ${device.name}`}
      heads={["Credential", "As", "User name", "Confirmed", "State"]}
    >
      {device.bindings.map((binding) => (
        <tr key={`${binding.credential} ${binding.role}`}>
          <td>
            {binding.credential_path ? (
              <CredentialLink id={binding.credential} path={binding.credential_path} />
            ) : (
              "one that you have no access to"
            )}
          </td>
          <td>{binding.role}</td>
          <td>{binding.login}</td>
          <td>
            <When at={binding.confirmed_at} />
          </td>
          <td>
            {binding.suspended ? (
              <>
                <State word="suspended" /> {binding.suspended}
              </>
            ) : (
              <State word="in force" />
            )}
          </td>
        </tr>
      ))}
    </Table>
  );
}

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

export function Devices() {
  const devices = useQuery({
    queryKey: ["devices"],
    queryFn: () => all((page) => api.GET("/api/v1/devices", { params: { query: page } })),
  });
  const credentials = useQuery({
    queryKey: ["credentials", "on devices"],
    queryFn: () => all((page) => api.GET("/api/v1/credentials", { params: { query: page } })),
  });
  const on = (device: Device) =>
    (credentials.data ?? []).filter((item) => item.device_id === device.id);
  const operator = (device: Device) =>
    credentials.data?.find((item) => item.id === device.operator);
  return (
    <Card title="Devices">
      <Trouble error={devices.error ?? credentials.error} />
      {devices.data?.length === 0 && (
        <Empty>
          There are no devices yet. Open a folder in the vault and choose “Add a device”.
        </Empty>
      )}
      {devices.data && devices.data.length > 0 && (
        <ul className="flex flex-col divide-y divide-base-300">
          {devices.data.map((device) => (
            <li key={device.id} className="py-1.5">
              <div className="flex flex-wrap items-baseline gap-x-4">
                <strong>
                  {device.place}/{device.name}
                </strong>
                <span className="font-mono">
                  {device.address}:{device.port}
                </span>
                <span>
                  {device.accounts} {device.accounts === 1 ? "account" : "accounts"}
                </span>
                <span className="quiet">
                  {device.operator
                    ? `operator: ${operator(device)?.name ?? "one that you have no access to"}`
                    : "no operator: accounts change their own passwords"}
                </span>
                <span className="quiet">
                  {device.identity.length > 0 ? "identity confirmed" : "identity not confirmed"}
                </span>
              </div>
              <DeviceTrouble device={device} />
              <Fold label={`Identity of ${device.name}`}>
                {(close) => <Identity device={device} close={close} />}
              </Fold>
              {device.bindings.length > 0 && (
                <Fold label={`Bindings of ${device.name}`} wide>
                  {() => <Bindings device={device} />}
                </Fold>
              )}
              <Fold label={`Edit ${device.name}`}>
                {(close) => (
                  <Edit
                    device={device}
                    accounts={on(device)}
                    operator={operator(device)}
                    close={close}
                  />
                )}
              </Fold>
            </li>
          ))}
        </ul>
      )}
    </Card>
  );
}
