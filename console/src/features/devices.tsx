// Devices: where they are, how they prove who they are, and who changes their accounts.

import { useQuery } from "@tanstack/react-query";
import { type CredentialItem, type Device, all, api } from "../api";
import { Act, Card, Choice, Empty, Field, Fold, Form, Trouble, text } from "../parts";

function Edit({ device, accounts, operator, close }: { device: Device; accounts: CredentialItem[]; operator: CredentialItem | undefined; close: () => void }) {
  // The operator may be an account of another device, such as one that stands before this one.
  const choices = operator && !accounts.some((account) => account.id === operator.id) ? [operator, ...accounts] : accounts;
  const submit = (data: FormData) => {
    const typed = { name: text(data, "name"), address: text(data, "address"), port: Number(text(data, "port")) };
    const moved = typed.address !== device.address || typed.port !== device.port;
    // An unchanged address is not sent: a new one forgets the host key.
    return api.patch(`/devices/${device.id}`, { name: typed.name, ...(moved && { address: typed.address, port: typed.port }), operator: text(data, "operator") || undefined }, device.version);
  };
  return (
    <>
      <Form label="Save" submit={submit} after={["devices", "upkeep"]} done={close}>
        <Field label="Name" name="name" defaultValue={device.name} required />
        <Field label="Address" name="address" defaultValue={device.address} required hint="With a new address or port the host key is pinned anew at the next contact." />
        <Field label="Port" name="port" type="number" min={1} max={65535} defaultValue={device.port} required />
        <Choice label="Operator: the account that changes the others" name="operator" defaultValue={device.operator ?? ""} options={[["", device.operator ? "keep it" : "none: accounts change themselves"], ...choices.map((account): [string, string] => [account.id, `${account.name} (${account.user_name})`])]} />
      </Form>
      <div className="mt-2 border-t border-base-300 pt-2">
        <p className="quiet mb-1 break-all">Host key: {device.host_key ?? "none yet; it is pinned at the first contact"}</p>
        {device.host_key && (
          <Act
            label="Accept a new host key"
            run={() => api.patch(`/devices/${device.id}`, { accept_new_key: true }, device.version)}
            after={["devices"]}
            confirm={`Forget the pinned host key of ${device.name}? The next contact pins whatever key answers. Do this only when you know why the key changed.`}
          />
        )}
      </div>
      <div className="mt-2 border-t border-base-300 pt-2">
        <Act label={`Remove ${device.name}`} run={() => api.remove(`/devices/${device.id}`, device.version)} after={["devices", "upkeep"]} confirm={`Remove ${device.name}?`} />
      </div>
    </>
  );
}

export function Devices() {
  const devices = useQuery({ queryKey: ["devices"], queryFn: () => all<Device>("/devices") });
  const credentials = useQuery({ queryKey: ["credentials", "on devices"], queryFn: () => all<CredentialItem>("/credentials") });
  const on = (device: Device) => (credentials.data ?? []).filter((item) => item.device_id === device.id);
  const operator = (device: Device) => credentials.data?.find((item) => item.id === device.operator);
  return (
    <Card title="Devices">
      <Trouble error={devices.error ?? credentials.error} />
      {devices.data?.length === 0 && <Empty>There is no device yet. Open a folder in the vault and choose “Add a device”.</Empty>}
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
                <span className="quiet">{device.operator ? `operator: ${operator(device)?.name ?? "one that you may not know of"}` : "no operator: accounts change themselves"}</span>
                <span className="quiet">{device.host_key ? "host key pinned" : "not met yet"}</span>
              </div>
              <Fold label={`Change ${device.name}`}>{(close) => <Edit device={device} accounts={on(device)} operator={operator(device)} close={close} />}</Fold>
            </li>
          ))}
        </ul>
      )}
    </Card>
  );
}
