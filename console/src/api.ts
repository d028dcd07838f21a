// The network interface as the console uses it. The types mirror the OpenAPI document.

export type Level = "list" | "use" | "reveal" | "edit" | "steward";
export interface Page<T> {
  items: T[];
  next?: string;
}
export interface Status {
  state: "ready" | "locked" | "needs-setup" | "no-database";
}
export interface Me {
  id: string;
  sign_in_name: string;
  display_name: string;
  duties: string[];
  organisation: string;
}
export interface Folder {
  id: string;
  parent: string | null;
  name: string;
  path: string;
  closed: boolean;
  level: Level | null;
  own_grants: boolean;
  shared: boolean;
  version: number;
}
export interface CredentialItem {
  own_grants: boolean;
  shared: boolean;
  id: string;
  name: string;
  folder: string;
  place: string;
  kind: string;
  user_name: string;
  device: string | null;
  device_id: string | null;
  check: string | null;
  gated: boolean;
  level: Level;
  tags: string[];
  favourite: boolean;
  findings: string[];
  changed_at: string;
  near?: boolean;
}
export interface Finding {
  name: string;
  detail?: string;
  advice: string;
}
export interface Attachment {
  id: string;
  name: string;
  size: number;
  made_at: string;
  made_by: string | null;
}
export interface Member {
  id: string;
  sort: "person" | "group";
  name: string;
}
export interface Gate {
  id: string;
  target_type: string;
  target: string;
  place: string;
  needs_reason: boolean;
  needs_approval: boolean;
  approvers: Member[];
  longest_minutes: number;
  one_holder: boolean;
  rotate_on_return: boolean;
  version: number;
}
export interface GateConditions {
  needs_reason: boolean;
  needs_approval: boolean;
  longest_minutes: number;
  one_holder: boolean;
  rotate_on_return: boolean;
  gates: Gate[];
}
export interface PendingAct {
  id: string;
  act: string;
  summary: string;
  target_name: string;
  state: string;
  proposed_by: string;
  proposed_at: string;
  expires_at: string;
  decided_at: string | null;
  comment: string;
  may_confirm: boolean;
  own: boolean;
}
export interface Account {
  credential: string;
  credential_path: string;
  device: string;
  next_check_at: string | null;
  next_rotation_at: string | null;
  checked_at: string | null;
  check_outcome: string | null;
  rotated_at: string | null;
  rotation_outcome: string | null;
  rotation_owed_at: string | null;
}
export interface Credential {
  id: string;
  name: string;
  folder: string;
  place: string;
  kind: string;
  fields: Record<string, string>;
  secret_fields: string[];
  device: string | null;
  device_name: string | null;
  level: Level;
  gate: GateConditions | null;
  upkeep: Account | null;
  extra: KindField[];
  facts: Record<string, Record<string, string>>;
  tags: string[];
  favourite: boolean;
  findings: Finding[];
  attachments: Attachment[];
  created_at: string;
  created_by: string | null;
  changed_at: string;
  changed_by: string | null;
  version: number;
}
export interface KindField {
  name: string;
  label: string;
  holds: string;
  required: boolean;
  help?: string;
}
export interface Keys {
  root_key: string;
  next_root_key?: string | null;
  services: { name: string; seen_at: string; ready: boolean }[];
  organisation_key: number;
  left?: number | null;
}
export interface Kind {
  name: string;
  label: string;
  generates: boolean;
  fields: KindField[];
  own: boolean;
  retired: boolean;
  version: number;
}
export interface UseItem {
  person: string;
  last_at: string;
  times: number;
}
export interface Removed {
  id: string;
  sort: string;
  path: string;
  credentials: number;
  removed_at: string;
  removed_by: string | null;
  purged_from: string | null;
}
export interface PasswordRule {
  folder: string;
  place: string;
  mode: "advise" | "enforce" | "choose";
  policies: string[];
}
export interface Tried {
  bits: number;
  samples: string[];
  lacks: string[];
  score: number | null;
}
export interface Settings {
  settings: Record<string, number | boolean | string[]>;
  version: number;
}
export interface SavedSearch {
  id: string;
  name: string;
  filters: Record<string, string>;
}
export interface PersonalState {
  allowed: boolean;
  exists: boolean;
  open: boolean;
}
export interface PersonalThing {
  id: string;
  name: string;
  user_name: string;
  url: string;
  note: string;
  changed_at: string;
  version: number;
}
export interface Version {
  field: string;
  number: number;
  state: string;
  made_at: string;
  made_by: string | null;
  made_how: string;
  why: string;
}
export interface OneTimeCode {
  digits: string;
  left: number | null;
  period: number | null;
}
export interface Revealed {
  field: string;
  version: number;
  value: string;
}
export interface Grant {
  id: string;
  target: string;
  place: string;
  subject_sort: string;
  subject: string;
  subject_name: string;
  level: Level;
  ends_at: string | null;
  note: string;
  only_kind: string | null;
  only_tag: string | null;
  history: boolean;
  version: number;
}
export interface GrantTerms {
  id: string;
  to: { level?: string; ends_at?: string; without_end?: boolean; note?: string; history?: boolean };
}
export interface Reacher {
  person: string;
  name: string;
  state: string;
  level: Level;
  stands_on: string;
  through: string[];
  others: number;
}
export interface NewGrant {
  folder?: string;
  credential?: string;
  person?: string;
  group?: string;
  level: string;
  ends_at?: string;
  note: string;
  only_kind?: string;
  only_tag?: string;
  without_history: boolean;
}
/** One of these. */
export interface Change {
  grant?: NewGrant;
  terms?: GrantTerms;
  withdraw?: string;
  join?: { group: string; member: string };
  leave?: { group: string; member: string };
  folder?: { id: string; parent?: string; to_top?: boolean; closed?: boolean };
  credentials?: { ids: string[]; to: string };
  transfer_stewardship?: { from: string; to: string; below?: string; keep: boolean };
  tags?: { ids: string[]; add?: string[]; take_away?: string[] };
}
export interface AccessCompared {
  changes: { line: number | null; sort: string; place: string; text: string }[];
  count: number;
  state: string;
  preview: Preview;
}
export interface AccessMade {
  count: number;
}
export interface AccessIssue {
  sort: string;
  id: string;
  place: string;
  subject_name: string;
  level: Level | null;
}
export interface Discoverable {
  id: string;
  name: string;
  place: string;
  kind: string;
  asked: boolean;
}
export interface AccessRequest {
  id: string;
  place: string;
  person_name: string;
  level: Level;
  reason: string;
  state: string;
  asked_at: string;
  decided_by: string | null;
  comment: string;
  may_decide: boolean;
}
export interface AccessIssuesFixed {
  withdrawn: number;
  appointed: number;
}
export interface StewardshipTransferred {
  places: string[];
}
export interface Preview {
  sentence: string;
  shifts: {
    person: string;
    name: string;
    state: string;
    before: Level | null;
    after: Level | null;
    credentials: number;
    gated: number;
  }[];
  more: boolean;
}
export interface Explanation {
  sentence: string;
  ways: {
    grant: string;
    level: Level;
    stands_on: string;
    through: string[];
    stopped: string | null;
  }[];
}
export interface Person {
  id: string;
  sort: string;
  sign_in_name: string;
  display_name: string;
  state: string;
  duties: string[];
  version: number;
}
export interface Group {
  id: string;
  name: string;
  members: Member[];
  version: number;
}
export interface DeviceIdentity {
  kind: string;
  fingerprint: string;
  line: string;
}
export interface DeviceBinding {
  credential: string;
  credential_path: string;
  role: string;
  login: string;
  confirmed_at: string;
  suspended: string;
}
/** Where a credential may be used as the operator. */
export interface OperatorScope {
  devices: string[];
  folders: string[];
  paths: string[];
}
export interface Device {
  id: string;
  name: string;
  folder: string;
  place: string;
  address: string;
  port: number;
  identity: DeviceIdentity[];
  bindings: DeviceBinding[];
  operator: string | null;
  accounts: number;
  paused_at: string | null;
  paused_why: string;
  version: number;
}
export interface PolicyRules {
  length: number;
  shortest: number;
  lower: number;
  upper: number;
  digits: number;
  symbols_least: number;
  symbols: string;
  no_look_alikes: boolean;
  longest: number;
  only_these: boolean;
  forbidden: string;
  first: string;
  most_repeats: number;
  most_in_sequence: number;
  not_user_name: boolean;
  not_last: number;
  words: number;
  separator: string;
  least_bits: number;
}
export interface PasswordPolicy {
  id: string;
  name: string;
  is_default: boolean;
  rules: PolicyRules;
  version: number;
}
export interface Plan {
  id: string;
  target_type: string;
  target: string;
  place: string;
  check?: string;
  out_of_sync: string;
  rotate?: string;
  rotate_days?: number;
  hours_from?: string;
  hours_to?: string;
  time_zone: string;
  policy?: string;
  version: number;
}
export interface Job {
  id: string;
  credential: string;
  credential_path: string;
  device: string;
  task: string;
  way: string;
  state: "queued" | "running" | "done" | "failed";
  step: string;
  outcome: string | null;
  message: string;
  asked_by: string | null;
  cause: string;
  queued_at: string;
  finished_at: string | null;
}
export interface Request {
  id: string;
  credential: string;
  credential_path: string;
  person: string;
  person_name: string;
  reason: string;
  minutes: number;
  state: string;
  asked_at: string;
  expires_at: string;
  decided_by: string | null;
  comment: string;
  checkout: string | null;
  may_decide: boolean;
}
export interface Checkout {
  id: string;
  credential: string;
  credential_path: string;
  person: string;
  person_name: string;
  reason: string;
  starts_at: string;
  ends_at: string;
  ended_at: string | null;
  ended_how: string | null;
  rotate_on_return: boolean;
}
export interface AuditEvent {
  id: string;
  leaf: number | null;
  at: string;
  action: string;
  actor_name: string;
  target: string | null;
  target_type: string;
  target_name: string;
  origin: string;
  outcome: string;
  detail: Record<string, string>;
}
export interface Overview {
  to_decide: Request[];
  asked: Request[];
  held: Checkout[];
  troubled_jobs: Job[];
  troubled_accounts: Account[];
  due_soon: Account[];
  devices: Device[];
  pending: PendingAct[];
  two_people: { what: string; state: string }[];
}

export interface ImportOptions {
  id: string;
  name: string;
  format?: string;
  folder: string;
  kind: string;
  columns?: string[];
  key: string;
  matching: string;
  only_good: boolean;
  preview: boolean;
}
export interface ImportReport {
  id: string;
  done: boolean;
  format: string;
  notes: string[];
  columns: { head: string; holds: string }[];
  rows: number;
  added: number;
  updated: number;
  skipped: number;
  folders: number;
  problems: { line: number; name: string; column: string; problem: string }[];
  sentence: string;
  access?: Preview;
}
export interface ImportProgress {
  done: number;
  rows: number;
}
export interface ImportItem {
  id: string;
  name: string;
  place: string;
  made_at: string;
  made_by: string | null;
  added: number;
  updated: number;
  skipped: number;
  undone_at: string | null;
}
export interface ImportUndone {
  removed: number;
  restored: number;
  left: number;
}

/** Problem details (RFC 9457) as an error. */
export class Problem extends Error {
  constructor(
    readonly code: string,
    readonly status: number,
    readonly detail: string,
    readonly advice: string,
    readonly fields: Record<string, string>,
  ) {
    super(detail);
  }
}

async function ask(
  method: string,
  path: string,
  body?: unknown,
  version?: number,
): Promise<Response> {
  const headers: Record<string, string> = { "Jexlin-Console": "1" };
  const bytes = body instanceof Blob;
  if (body !== undefined)
    headers["Content-Type"] = bytes ? "application/octet-stream" : "application/json";
  if (version !== undefined) headers["If-Match"] = `"${version}"`;
  let response: Response;
  try {
    response = await fetch(`/api/v1${path}`, {
      method,
      headers,
      body: body === undefined ? undefined : bytes ? body : JSON.stringify(body),
    });
  } catch {
    throw new Problem(
      "away",
      0,
      "The service cannot be reached.",
      "Check the network; what you typed is still here.",
      {},
    );
  }
  if (response.ok) return response;
  let said: { type?: string; detail?: string; advice?: string; fields?: Record<string, string> } =
    {};
  try {
    said = JSON.parse(await response.text());
  } catch {
    // Not our service's words; the status says what there is to say.
  }
  const code = (said.type ?? "").replace("urn:jexlin:problem:", "");
  const problem = new Problem(
    code,
    response.status,
    said.detail ?? `The service answered with status ${response.status}.`,
    said.advice ?? "Try again.",
    said.fields ?? {},
  );
  // Asking who is signed in is how the door finds out; it needs no telling.
  if (response.status === 401 && code === "signed-out" && path !== "/me")
    window.dispatchEvent(new Event("signed-out"));
  throw problem;
}

async function call<T>(method: string, path: string, body?: unknown, version?: number): Promise<T> {
  const response = await ask(method, path, body, version);
  const text = await response.text();
  // Not done yet: whoever shows what is told learns that it waits for a second person.
  if (response.status === 202)
    window.dispatchEvent(
      new CustomEvent("pending-act", { detail: (JSON.parse(text) as PendingAct).summary }),
    );
  return (text ? JSON.parse(text) : undefined) as T;
}

/** A file of what one may see, with how much is in it and left out of it. */
export async function exportFile(
  options: unknown,
): Promise<{ file: Blob; taken: string; leftOut: string }> {
  const response = await ask("POST", "/export", options);
  return {
    file: await response.blob(),
    taken: response.headers.get("Jexlin-Taken") ?? "0",
    leftOut: response.headers.get("Jexlin-Left-Out") ?? "0",
  };
}

/** A file of text. */
export async function takeText(path: string): Promise<Blob> {
  return (await ask("GET", path)).blob();
}

export const api = {
  get: <T>(path: string) => call<T>("GET", path),
  post: <T>(path: string, body: unknown = {}, version?: number) =>
    call<T>("POST", path, body, version),
  put: <T>(path: string, body?: unknown, version?: number) => call<T>("PUT", path, body, version),
  patch: <T>(path: string, body: unknown, version: number) => call<T>("PATCH", path, body, version),
  remove: (path: string, version?: number) => call<string>("DELETE", path, undefined, version),
};

/** All pages of a list, up to a bound that a page can show. */
export async function all<T>(path: string, most = 5000): Promise<T[]> {
  const items: T[] = [];
  let cursor = "";
  do {
    const page: Page<T> = await api.get(
      `${path}${path.includes("?") ? "&" : "?"}limit=500&cursor=${cursor}`,
    );
    items.push(...page.items);
    cursor = page.next ?? "";
  } while (cursor && items.length < most);
  return items;
}
