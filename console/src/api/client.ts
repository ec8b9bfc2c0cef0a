import createClient from "openapi-fetch";
import type { components, paths } from "./schema.gen";

export type Schemas = components["schemas"];
export type Problem = Schemas["Problem"];

export const raw = createClient<paths>({ baseUrl: "/" });

/** Failure is what an operation answers when it does not do what was asked. */
export class Failure extends Error {
  constructor(
    readonly status: number,
    readonly code: string,
    message: string,
    readonly hint?: string,
    readonly line?: number,
  ) {
    super(message);
  }
}

type Answer<T> = { data?: T; error?: unknown; response: Response };

export async function value<T>(answer: Promise<Answer<T>>): Promise<T> {
  let settled: Answer<T>;
  try {
    settled = await answer;
  } catch {
    throw new Failure(
      0,
      "unreachable",
      "The service does not answer.",
      "Check that it is running; this page tries again by itself.",
    );
  }
  if (settled.error !== undefined || !settled.response.ok) {
    const p = settled.error as Partial<Problem> | undefined;
    throw new Failure(
      settled.response.status,
      p?.code ?? "unknown",
      p?.detail ?? `The service answered ${settled.response.status}.`,
      p?.hint,
      p?.line,
    );
  }
  return settled.data as T;
}
