// The network interface as the console uses it. Types and calls come from the OpenAPI document:
// `npm run schema` makes `schema.d.ts` of it, and `./test` fails when that is stale.

import createClient, { type FetchResponse } from "openapi-fetch";
import type { components, paths } from "./schema";

type Schemas = components["schemas"];
export type Level = Schemas["Level"];
export type Status = Schemas["Status"];
export type Me = Schemas["Me"];
export type Folder = Schemas["Folder"];
export type CredentialItem = Schemas["CredentialItem"];
export type Finding = Schemas["FindingItem"];
export type Attachment = Schemas["Attachment"];
export type Member = Schemas["Member"];
export type Gate = Schemas["Gate"];
export type GateConditions = Schemas["GateConditions"];
export type PendingAct = Schemas["PendingAct"];
export type Account = Schemas["Upkeep"];
export type Credential = Schemas["Credential"];
export type FieldType = Schemas["FieldType"];
export type KindField = Schemas["KindField"];
export type Keys = Schemas["KeysView"];
export type Kind = Schemas["Kind"];
export type UseItem = Schemas["UseItem"];
export type Removed = Schemas["Removed"];
export type PasswordRule = Schemas["PasswordRule"];
export type TryResult = Schemas["TryResult"];
export type Settings = Schemas["SettingsItem"];
export type SavedSearch = Schemas["SavedSearch"];
export type PersonalState = Schemas["PersonalState"];
export type PersonalItem = Schemas["PersonalItem"];
export type Version = Schemas["Version"];
export type OneTimeCode = Schemas["OneTimeCode"];
export type Revealed = Schemas["Revealed"];
export type Grant = Schemas["Grant"];
export type SeenItem = Schemas["SeenItem"];
export type GrantTerms = Schemas["GrantTerms"];
export type AccessHolder = Schemas["AccessHolder"];
export type NewGrant = Schemas["NewGrant"];
export type Change = Schemas["Change"];
export type AccessCompared = Schemas["AccessCompared"];
export type AccessApplied = Schemas["AccessApplied"];
export type AccessIssue = Schemas["AccessIssue"];
export type Discoverable = Schemas["Discoverable"];
export type AccessRequest = Schemas["AccessRequest"];
export type AccessIssuesFixed = Schemas["AccessIssuesFixed"];
export type StewardshipTransferred = Schemas["StewardshipTransferred"];
export type Preview = Schemas["Preview"];
export type Explanation = Schemas["Explanation"];
export type Person = Schemas["Person"];
export type Session = Schemas["Session"];
export type Group = Schemas["Group"];
export type DeviceIdentity = Schemas["DeviceIdentity"];
export type DeviceBinding = Schemas["DeviceBinding"];
export type OperatorScope = Schemas["OperatorScope"];
export type Device = Schemas["Device"];
export type DeviceAccount = Schemas["DeviceAccount"];
export type Dialogue = Schemas["Dialogue"];
export type DialogueFinding = Schemas["DialogueFinding"];
export type DialogueRehearsal = Schemas["DialogueRehearsal"];
export type PasswordPolicy = Schemas["PasswordPolicy"];
export type Plan = Schemas["Plan"];
export type PlanRules = Schemas["PlanRules"];
export type Job = Schemas["Job"];
export type Request = Schemas["Request"];
export type Checkout = Schemas["Checkout"];
export type AuditEvent = Schemas["AuditEvent"];
export type Overview = Schemas["Overview"];
export type ImportOptions = Schemas["ImportOptions"];
export type ImportReport = Schemas["ImportReport"];
export type ImportProgress = Schemas["ImportProgress"];
export type ImportItem = Schemas["ImportItem"];
export type ImportUndone = Schemas["ImportUndone"];
export type FixAccessIssues = Schemas["FixAccessIssues"];
export type ClientSecret = Schemas["ClientSecret"];
export type CredentialQuery = NonNullable<
  paths["/api/v1/credentials"]["get"]["parameters"]["query"]
>;
/** What a password policy demands, with all that has a default. */
export type PolicyRules = Required<Schemas["PolicyRules"]>;

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

/** What a service says that is none of ours, or none that can be read. */
function problemOf(response: Response, said: unknown): Problem {
  const words = (typeof said === "object" && said !== null ? said : {}) as Partial<
    Schemas["Problem"]
  >;
  return new Problem(
    (words.type ?? "").replace("urn:jexlin:problem:", ""),
    response.status,
    words.detail ?? `The service answered with status ${response.status}.`,
    words.advice ?? "Try again.",
    words.fields ?? {},
  );
}

export const api = createClient<paths>({
  baseUrl: "/",
  headers: { "Jexlin-Console": "1" },
  bodySerializer: (body: unknown) => (body instanceof Blob ? body : JSON.stringify(body)),
});

api.use({
  onError: () =>
    new Problem(
      "away",
      0,
      "The service cannot be reached.",
      "Check the network; what you typed is still here.",
      {},
    ),
});

/** The revision that a change is based on. */
export const ifMatch = (revision: number) => ({ "If-Match": `"${revision}"` });

/** A file as a body: its bytes, whatever the document says of their form. */
export const fileBody = (file: Blob) => file as unknown as never;

/** What a call is answered with, or the problem as an error. */
export async function result<
  T extends Record<string | number, unknown>,
  O,
  M extends `${string}/${string}`,
>(answer: Promise<FetchResponse<T, O, M>>) {
  const { data, error, response } = await answer;
  if (!response.ok) {
    const problem = problemOf(response, error);
    // Asking who is signed in is how the sign-in page finds out; it needs no telling.
    if (problem.status === 401 && problem.code === "signed-out" && !response.url.endsWith("/me"))
      window.dispatchEvent(new Event("signed-out"));
    throw problem;
  }
  // Not done yet: whoever shows what is told learns that it waits for a second person.
  if (response.status === 202)
    window.dispatchEvent(
      new CustomEvent("pending-act", {
        detail: (data as unknown as PendingAct).summary,
      }),
    );
  return data as NonNullable<typeof data>;
}

/** A list that comes whole. */
export async function wholeList<I>(
  answer: Promise<{ data?: { items: I[] }; error?: unknown; response: Response }>,
): Promise<I[]> {
  return ((await result(answer as never)) as { items: I[] }).items;
}

/** All pages of a list, up to a bound that a page can show. */
export async function all<I>(
  page: (query: { limit: number; cursor: string }) => Promise<{
    data?: { items: I[]; next?: string | null };
    error?: unknown;
    response: Response;
  }>,
  most = 5000,
): Promise<I[]> {
  const found: I[] = [];
  let cursor = "";
  do {
    const next = (await result(page({ limit: 500, cursor }) as never)) as {
      items: I[];
      next?: string | null;
    };
    found.push(...next.items);
    cursor = next.next ?? "";
  } while (cursor && found.length < most);
  return found;
}

/** A call whose answer is a file. */
export const fileOf = (answer: Promise<{ data?: unknown; response: Response }>) =>
  result(answer as never) as Promise<unknown> as Promise<Blob>;

/** A file of what one may see, with how much is in it and left out of it. */
export async function exportFile(
  options: Schemas["ExportOptions"],
): Promise<{ file: Blob; taken: string; leftOut: string }> {
  const answer = api.POST("/api/v1/export", { body: options, parseAs: "blob" });
  const { headers } = (await answer).response;
  return {
    file: await fileOf(answer),
    taken: headers.get("Jexlin-Taken") ?? "0",
    leftOut: headers.get("Jexlin-Left-Out") ?? "0",
  };
}

/** What waits for somebody, with days as their clock counts them. */
export const overviewQuery = {
  queryKey: ["overview"],
  queryFn: () =>
    result(
      api.GET("/api/v1/overview", {
        params: { query: { minutes_ahead: -new Date().getTimezoneOffset() } },
      }),
    ),
};
