import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type Device = Schemas["Device"];
export type Model = Schemas["Model"];
export type Component = Schemas["Component"];
export type Property = Schemas["Property"];
export type Settings = Schemas["Settings"];
export type Setting = Schemas["Setting"];
export type Alarm = Schemas["Alarm"];
export type OpenAlarm = Schemas["OpenAlarm"];
export type Margin = Schemas["Margin"];
export type History = Schemas["History"];
export type TrafficEntry = Schemas["TrafficEntry"];
export type JournalEntry = Schemas["JournalEntry"];
export type Candidate = Schemas["Candidate"];
export type ExpressionReport = Schemas["ExpressionReport"];
export type Part = Schemas["Part"];
export type Affordance = Schemas["Affordance"];
export type CommandJob = Schemas["CommandJob"];
export type GivenCommand = Schemas["Command"];
export type Line = Schemas["Line"];
export type LimitAhead = Schemas["LimitAhead"];
export type Reserve = Schemas["Reserve"];
export type Forecast = Schemas["Forecast"];
export type Rule = Schemas["Rule"];
export type RuleResponse = Schemas["Response"];
export type Layer = Schemas["Layer"];
export type LayerSummary = Schemas["LayerSummary"];
export type LayerChange = Schemas["LayerChange"];
export type LayerPreview = Schemas["LayerPreview"];
export type Activity = components["schemas"]["Activity"];
export type Rollout = Schemas["Rollout"];
export type WavePlan = Schemas["Plan"];
export type Cause = Schemas["Cause"];
export type Board = Schemas["Board"];
export type Instrument = Schemas["Instrument"];
export type LayerStatus = Schemas["LayerStatus"];
export type Maintenance = Schemas["Maintenance"];
export type Site = Schemas["Site"];
export type Person = Schemas["Person"];
export type Team = Schemas["Team"];
export type Key = Schemas["Key"];
export type Grant = Schemas["Grant"];
export type Credential = Schemas["Credential"];
export type DeviceJob = Schemas["DeviceJob"];
export type JoinKey = Schemas["JoinKey"];
export type JoinRequest = Schemas["JoinRequest"];
export type BatchPlan = Schemas["BatchPlan"];
export type Preferences = Schemas["Preferences"];
export type Document = Schemas["Document"];
export type Onboarded = Schemas["Onboarded"];
export type FolderFinding = Schemas["FolderFinding"];
export type Change = Schemas["Change"];
export type ModelPreview = Schemas["ModelPreview"];
export type Store = Schemas["Store"];
export type Service = Schemas["Service"];

// Listed is one page of a list, and how many pass its filter altogether.
export interface Listed<T> {
  items: T[];
  count: number;
}

// listed is ask for lists.
export async function listed<T>(
  call: Promise<{ data?: T[]; error?: unknown; response: Response }>,
): Promise<Listed<T>> {
  let response: Response | undefined;
  const items = await ask(call.then((a) => ((response = a.response), a)));
  return { items, count: Number(response?.headers.get("Ullage-Count") ?? items.length) };
}

// Tagged is a record and the tag of the state in which it was read.
export interface Tagged<T> {
  value: T;
  tag: string;
}

// tagged is ask for one record that can be changed.
export async function tagged<T>(
  call: Promise<{ data?: T; error?: unknown; response: Response }>,
): Promise<Tagged<T>> {
  let tag = "";
  const value = await ask(call.then((a) => ((tag = a.response.headers.get("ETag") ?? ""), a)));
  return { value, tag };
}

// Refusal is a problem of the service (RFC 9457) as an error.
export class Refusal extends Error {
  constructor(
    message: string,
    readonly status: number,
    readonly about = "", // what is wrong, as the service names it
  ) {
    super(message);
  }
}

const unreachable =
  "The service does not answer. Is it running? This page goes on by itself when it is back.";

const brokeOff = "The answer broke off before its end. Try again, or ask for less.";

export const api = createClient<paths>({
  baseUrl: window.location.origin,
  // Lists in a URL are one parameter with commas.
  querySerializer: { array: { style: "form", explode: false } },
});

// inUnits are the questions whose numbers can be answered in the units that whoever
// asks prefers, and, for settings, are written in them.
const inUnits = new Set([
  "/api/v1/devices",
  "/api/v1/devices/{id}",
  "/api/v1/devices/{id}/different",
  "/api/v1/devices/{id}/history",
  "/api/v1/devices/{id}/peers",
  "/api/v1/devices/{id}/readings",
  "/api/v1/devices/{id}/settings",
  "/api/v1/query",
  "/api/v1/statistics",
  "/api/v1/forecast",
  "/api/v1/alarms",
  "/api/v1/models/{name}",
  "/api/v1/as-of",
]);

api.use({
  async onRequest({ request, schemaPath }) {
    const writes = request.method === "POST" && schemaPath.endsWith("/settings");
    if (!inUnits.has(schemaPath) || (request.method !== "GET" && !writes)) return undefined;
    const url = new URL(request.url);
    url.searchParams.set("units", "own");
    if (!writes) return new Request(url, request);
    // A body that is handed on would be streamed, which HTTP/1.1 does not do.
    const { method, headers, credentials, signal } = request;
    return new Request(url, { method, headers, credentials, signal, body: await request.text() });
  },
});

// ask unwraps an answer, or throws what the service said.
export async function ask<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let answer;
  try {
    answer = await call;
  } catch (e) {
    if (e instanceof SyntaxError) throw new Refusal(brokeOff, 0);
    throw new Refusal(unreachable, 0);
  }
  if (answer.response.ok) return answer.data as T;
  const { detail, about } = (answer.error ?? {}) as { detail?: string; about?: string };
  // A wrong password is no sign-in that has ended.
  const ended = answer.response.status === 401 && about !== "password" && about !== "code";
  if (ended && !/\/me$/.test(answer.response.url)) {
    window.dispatchEvent(new Event("signed-out"));
  }
  throw new Refusal(
    detail ?? `The service answered ${answer.response.status}.`,
    answer.response.status,
    about,
  );
}
