import createClient, { type Middleware } from "openapi-fetch";
import type { components, paths } from "./schema";

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
      answer = await fetch(next);
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

export const api = createClient<paths>({ baseUrl: "/" });
// Answers go through these from the last to the first.
api.use(withToken, withTouched, withDoubt);

interface Answer<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

const UNANSWERED =
  "No answer from the server. What you typed still stands; look whether it arrived before you send it again.";

/** The data of an answer, or an ApiError with its sentences. */
export async function take<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await call;
  } catch {
    throw new ApiError(
      0,
      [
        {
          field: "",
          code: "no_answer",
          message: navigator.onLine
            ? UNANSWERED
            : "No signal here: nothing was sent. What you typed still stands; try again.",
        },
      ],
      {},
    );
  }
  if (answer.response.ok && answer.data !== undefined) return answer.data;
  const problem = (answer.error ?? {}) as { errors?: FieldFault[]; title?: string };
  const errors = problem.errors ?? [
    {
      field: "",
      code: "error",
      message: problem.title ?? `The server answered ${answer.response.status}. Nothing was saved.`,
    },
  ];
  throw new ApiError(answer.response.status, errors, problem as Record<string, unknown>);
}

/** A fresh id for one entry; `randomUUID` is missing on plain HTTP. */
export function entryId(): string {
  const bytes = crypto.getRandomValues(new Uint8Array(16));
  bytes[6] = ((bytes[6] ?? 0) & 0x0f) | 0x40;
  bytes[8] = ((bytes[8] ?? 0) & 0x3f) | 0x80;
  const hex = [...bytes].map((byte) => byte.toString(16).padStart(2, "0")).join("");
  return `${hex.slice(0, 8)}-${hex.slice(8, 12)}-${hex.slice(12, 16)}-${hex.slice(16, 20)}-${hex.slice(20)}`;
}
