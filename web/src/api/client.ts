/** The one way to the API: typed by its own description, with errors as problems. */
import createClient from "openapi-fetch";
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
});

export const api = raw;

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** The data of an answer, or its problem thrown. */
export async function ask<T>(answer: Promise<Answer<T>>): Promise<T> {
  let got: Answer<T>;
  try {
    got = await answer;
  } catch {
    throw new Problem(0, "unreachable", "Pair Shelf does not answer. It is tried again by itself.", null);
  }
  if (got.response.ok && got.data !== undefined) return got.data;
  throw problemOf(got.response.status, got.error);
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

/** Send a file: an inventory for preview or import, or a price list. */
export async function sendFile<T = Schema["ReadingOut"]>(
  path: "/api/inventory" | "/api/inventory/preview" | "/api/prices",
  file: File,
): Promise<T> {
  const form = new FormData();
  form.append("file", file);
  const response = await fetch(path, { method: "POST", body: form, headers: { "X-CSRFToken": csrf } });
  const body = await response.json().catch(() => null);
  if (!response.ok) throw problemOf(response.status, body);
  return body as T;
}
