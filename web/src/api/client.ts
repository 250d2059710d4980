import createClient, { type Middleware } from 'openapi-fetch';
import type { components, paths } from './schema';

export type Schemas = components['schemas'];

let token = '';

/** Keeps the token that whatever changes state must carry. */
export function setToken(value: string) {
  token = value;
}

/** What the server said was wrong, with the member at fault. */
export class ApiError extends Error {
  readonly status: number;
  readonly code: string;
  readonly member?: string;
  constructor(status: number, code: string, message: string, member?: string) {
    super(message);
    this.status = status;
    this.code = code;
    this.member = member;
  }
}

/** What a server refused, as an error. */
async function refusal(response: Response): Promise<ApiError> {
  const problem = (await response.json().catch(() => ({}))) as { title?: string; code?: string; member?: string };
  return new ApiError(
    response.status,
    problem.code ?? 'fault',
    problem.title ?? `The server answered ${response.status}.`,
    problem.member,
  );
}

const carryToken: Middleware = {
  onRequest({ request }) {
    if (request.method !== 'GET') {
      request.headers.set('X-Imbrek-Token', token);
    }
    return request;
  },
  async onResponse({ response }) {
    if (!response.ok) throw await refusal(response);
    return response;
  },
};

export const api = createClient<paths>({ baseUrl: '/' });
api.use(carryToken);

/** Unwraps an answer; errors were thrown on the way. */
export async function got<T>(answer: Promise<{ data?: T }>): Promise<T> {
  return (await answer).data as T;
}

/** Sends what the typed client has no good words for. */
async function send(method: string, path: string, body: BodyInit, type?: string): Promise<Response> {
  const headers = { 'X-Imbrek-Token': token, ...(type && { 'Content-Type': type }) };
  const response = await fetch(path, { method, body, headers });
  // What is wrong in a file is an answer too.
  if (!response.ok && response.status !== 422) throw await refusal(response);
  return response;
}

/** Has the browser keep something as a file. */
export function keepFile(content: Blob, name: string) {
  const url = URL.createObjectURL(content);
  const a = document.createElement('a');
  a.href = url;
  a.download = name;
  a.click();
  URL.revokeObjectURL(url);
}

/** Asks for a file and has the browser keep it. */
export async function takeFile(path: string, body: unknown, name: string) {
  keepFile(await (await send('POST', path, JSON.stringify(body), 'application/json')).blob(), name);
}

/** Sends a file as it is. */
export async function putFile<T>(path: string, file: File): Promise<T> {
  return (await (await send('PUT', path, file, 'application/json')).json()) as T;
}

/** Sends files as a form. */
export async function sendFiles(path: string, form: FormData): Promise<Schemas['ImportResult']> {
  return (await (await send('POST', path, form)).json()) as Schemas['ImportResult'];
}
