/** Asking for a file and handing it to the browser. */
import { csrfToken, Problem } from "../api/client";

export async function download(path: string, body: unknown, name: string): Promise<void> {
  let response: Response;
  try {
    response = await fetch(path, {
      method: "POST",
      headers: { "Content-Type": "application/json", "X-CSRFToken": csrfToken() },
      body: JSON.stringify(body),
    });
  } catch {
    throw new Problem(0, "unreachable", "Pair Shelf does not answer. Try again in a moment.", null);
  }
  if (!response.ok) {
    const said = await response.json().catch(() => ({}));
    throw new Problem(
      response.status,
      said.code ?? "http",
      said.title ?? "The file could not be made.",
      said.field ?? null,
    );
  }
  const link = document.createElement("a");
  link.href = URL.createObjectURL(await response.blob());
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}
