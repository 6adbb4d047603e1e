/** The one way to the API: typed by its own description, with errors as problems. */
import createClient from "openapi-fetch";
import createHooks from "openapi-react-query";
import type { components, paths } from "./schema.gen";

export type Schema = components["schemas"];

/** What went wrong, as the API says it (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly code: string,
    message: string,
    readonly field: string | null,
  ) {
    super(message);
  }

  /** What the description calls it. */
  get title(): string {
    return this.message;
  }
}

let csrf = "";

/** Changes carry this token; it comes with every answer about who is signed in. */
export function rememberCsrf(token: string): void {
  csrf = token;
}

/** For the few requests that are not made through `api`. */
export function csrfToken(): string {
  return csrf;
}

const raw = createClient<paths>({ baseUrl: "" });
raw.use({
  onRequest({ request }) {
    if (request.method !== "GET") request.headers.set("X-CSRFToken", csrf);
    return request;
  },
  async onResponse({ response }) {
    if (!response.ok) throw problemOf(response.status, await response.json().catch(() => null));
  },
  onError({ error }) {
    // Left unasked is no trouble: another question has taken its place.
    if (error instanceof Problem || (error instanceof DOMException && error.name === "AbortError")) return;
    return new Problem(0, "unreachable", "Pair Shelf does not answer. It is tried again by itself.", null);
  },
});

export const api = raw;

/** Hooks of every route, with keys of their own: method, path, what was asked. Their errors are problems. */
export const server = createHooks(raw);

/** Any path of the API, as its description has it. */
export type Path = keyof paths;

/** The data of an answer; its problem is thrown. */
export async function ask<T>(answer: Promise<{ data?: T }>): Promise<T> {
  const { data } = await answer;
  if (data === undefined) throw new Problem(200, "empty", "Pair Shelf gave no answer to this.", null);
  return data;
}

function problemOf(status: number, error: unknown): Problem {
  const said = (typeof error === "object" && error !== null ? error : {}) as Partial<{
    title: string;
    code: string;
    field: string;
  }>;
  return new Problem(
    status,
    said.code ?? "http",
    said.title ?? "Pair Shelf gave no answer to this.",
    said.field ?? null,
  );
}

/** Draw up the sheet of a kind of change; which fields it has the server knows, and names the one that is wrong. */
export async function drawUp(kind: string, body: object): Promise<Schema["SheetOut"]> {
  const headers = { "X-CSRFToken": csrf, "Content-Type": "application/json" };
  const answer = await fetch(`/api/sheets/${kind}`, { method: "POST", body: JSON.stringify(body), headers });
  const said = await answer.json().catch(() => null);
  if (!answer.ok) throw problemOf(answer.status, said);
  return said as Schema["SheetOut"];
}

/** Send a file: an inventory for preview or import, or a price list. */
export async function sendFile<T = Schema["ReadingOut"]>(
  path: "/api/inventory" | "/api/inventory/preview" | "/api/prices" | "/api/stand-in/unpack",
  file: File,
): Promise<T> {
  const form = new FormData();
  form.append("file", file);
  const response = await fetch(path, { method: "POST", body: form, headers: { "X-CSRFToken": csrf } });
  const body = await response.json().catch(() => null);
  if (!response.ok) throw problemOf(response.status, body);
  return body as T;
}
