/** The server, typed by its OpenAPI document. */
import createClient from "openapi-fetch";
import type { components, paths } from "./generated";

export type Schemas = components["schemas"];
export type Edit = Schemas["EditView"];
export type Finding = Schemas["Finding"];
export type Job = Schemas["JobView"];
export type Member = Schemas["MemberView"];
export type Project = Schemas["ProjectView"];

export const client = createClient<paths>({ querySerializer: { array: { style: "form", explode: true } } });

/** An answer that says what went wrong and what to do about it. */
export class Problem extends Error {
  constructor(
    readonly title: string,
    message: string,
    readonly remedy: string | null,
    readonly where: string | null,
  ) {
    super(message);
  }
}

/** What is announced when the server does not know this page. */
export const STRANGER = "brae-stranger";

/** Announced when a person has ended Brae from its page. */
export const ENDED = "brae-ended";

/** Announced when the way to the server is lost (false) or there again (true). */
export const LINK = "brae-link";

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** The data of an answer, or its problem thrown. */
export async function take<T>(promise: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await promise;
  } catch {
    throw new Problem(
      "No answer",
      "Brae's server does not answer.",
      "Start it again with 'brae serve'.",
      null,
    );
  }
  if (answer.response.ok) return answer.data as T;
  // Another Brae runs than the one that this page was opened with.
  if (answer.response.status === 401) window.dispatchEvent(new Event(STRANGER));
  const problem = (answer.error ?? {}) as Partial<Schemas["Problem"]>;
  const where = [problem.address, problem.offset != null ? `offset ${problem.offset}` : null]
    .filter(Boolean)
    .join(", ");
  throw new Problem(
    problem.title ?? `Error ${answer.response.status}`,
    [problem.detail ?? answer.response.statusText, problem.expected ? `Expected ${problem.expected}.` : ""]
      .join(" ")
      .trim(),
    problem.remedy ?? null,
    where || null,
  );
}

/** The address of a preview; `revision` makes each version its own, the rest is the kind's own query. */
export function previewUrl(
  project: string,
  address: string,
  options: Record<string, string | number | boolean | undefined> = {},
): string {
  const query = new URLSearchParams({ address });
  for (const [name, value] of Object.entries(options))
    if (value !== undefined) query.set(name, String(value));
  return `/api/projects/${encodeURIComponent(project)}/preview?${query}`;
}

/** The address of an item's own bytes. */
export function bytesUrl(project: string, address: string, download = false): string {
  const query = new URLSearchParams({ address, ...(download ? { download: "true" } : {}) });
  return `/api/projects/${encodeURIComponent(project)}/bytes?${query}`;
}

/** The open container of files that were found by their signs. */
export const BY_SIGNS = "scattered";
