import createClient, { type Middleware } from "openapi-fetch";
import { NotSent, send } from "./once";
import type { components, paths } from "./schema";

export { entryId } from "./once";

export type Schemas = components["schemas"];

export interface FieldFault {
  field: string;
  code: string;
  message: string;
}

/** The one error of the front end: what the server refused, field by field. */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    readonly errors: FieldFault[],
    readonly data: Record<string, unknown>,
  ) {
    super(errors[0]?.message ?? "The server did not answer as it should.");
  }

  /** The sentence for a field, if there is one. */
  of(field: string): string | undefined {
    return this.errors.find((fault) => fault.field === field)?.message;
  }

  /** Sentences that belong to none of the named fields. */
  rest(fields: string[]): string[] {
    return this.errors.filter((fault) => !fields.includes(fault.field)).map((fault) => fault.message);
  }
}

let csrf = "";

export function rememberCsrf(token: string) {
  csrf = token;
}

export const csrfToken = () => csrf;

const withToken: Middleware = {
  onRequest({ request }) {
    if (request.method !== "GET") request.headers.set("X-CSRFToken", csrf);
    return request;
  },
};

/** Asks whoever typed it whether a far-off value is so; set by the frame. */
export type AskDoubt = (question: string) => Promise<boolean>;
let askDoubt: AskDoubt = () => Promise.resolve(false);

export function onDoubt(ask: AskDoubt) {
  askDoubt = ask;
}

const sent = new Map<string, Request>();

/** A value that can be and is far from what was to be expected is asked about, and sent again with the answer. */
const withDoubt: Middleware = {
  onRequest({ id, request }) {
    if (request.method !== "GET") sent.set(id, request.clone());
  },
  async onResponse({ id, response }) {
    const first = sent.get(id);
    sent.delete(id);
    let answer = response;
    const again = first;
    const sure: string[] = [];
    while (again && answer.status === 422) {
      const problem = (await answer
        .clone()
        .json()
        .catch(() => null)) as { code?: string; title?: string; ask?: string } | null;
      if (problem?.code !== "doubtful" || !problem.ask || sure.includes(problem.ask)) return answer;
      if (!(await askDoubt(problem.title ?? ""))) return answer;
      sure.push(problem.ask);
      const next = again.clone();
      next.headers.set("X-Sure", sure.join(","));
      answer = await send(next);
    }
    return answer;
  },
  onError({ id }) {
    sent.delete(id);
  },
};

let touched: Set<string> | null = new Set();

/** The rooms in which was saved since this was last asked; null where nobody said so, and it may be anything. */
export function takeTouched(): Set<string> | null {
  const found = touched?.size ? touched : null;
  touched = new Set();
  return found;
}

const withTouched: Middleware = {
  onResponse({ request, response }) {
    if (request.method === "GET" || !response.ok) return undefined;
    const rooms = response.headers.get("X-Touched");
    if (rooms === null) touched = null;
    else for (const room of rooms.split(",")) touched?.add(room);
    return undefined;
  },
};

export const api = createClient<paths>({ baseUrl: "/", fetch: send });
// Answers go through these from the last to the first.
api.use(withToken, withTouched, withDoubt);

interface Answer<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

const UNANSWERED =
  "No answer from the server; it may have arrived. What you typed still stands: press again, unchanged, and it is saved once.";
const NO_SIGNAL = "No signal here: nothing was sent. What you typed still stands; try again.";

/** The data of an answer, or an ApiError with its sentences. */
export async function take<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await call;
  } catch (error) {
    const message = error instanceof NotSent ? NO_SIGNAL : UNANSWERED;
    throw new ApiError(0, [{ field: "", code: "no_answer", message }], {});
  }
  if (answer.response.ok && answer.data !== undefined) return answer.data;
  const problem = (answer.error ?? {}) as { errors?: FieldFault[]; title?: string };
  const errors = problem.errors ?? [
    {
      field: "",
      code: "error",
      message:
        problem.title ?? `The server answered ${answer.response.status}. Look whether it was saved, and try again.`,
    },
  ];
  throw new ApiError(answer.response.status, errors, problem as Record<string, unknown>);
}
