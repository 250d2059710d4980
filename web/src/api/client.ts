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

const carryToken: Middleware = {
  onRequest({ request }) {
    if (request.method !== 'GET') {
      request.headers.set('X-Imbrek-Token', token);
    }
    return request;
  },
  async onResponse({ response }) {
    if (!response.ok) {
      const problem = (await response.json().catch(() => ({}))) as { title?: string; code?: string; member?: string };
      throw new ApiError(
        response.status,
        problem.code ?? 'fault',
        problem.title ?? `The server answered ${response.status}.`,
        problem.member,
      );
    }
    return response;
  },
};

export const api = createClient<paths>({ baseUrl: '/' });
api.use(carryToken);

/** Unwraps an answer; errors were thrown on the way. */
export async function got<T>(answer: Promise<{ data?: T }>): Promise<T> {
  return (await answer).data as T;
}

/** Asks for a file and has the browser keep it. */
export async function takeFile(path: string, body: unknown, name: string) {
  const response = await fetch(path, {
    method: 'POST',
    body: JSON.stringify(body),
    headers: { 'Content-Type': 'application/json', 'X-Imbrek-Token': token },
  });
  if (!response.ok) {
    const problem = (await response.json().catch(() => ({}))) as { title?: string; code?: string; member?: string };
    throw new ApiError(
      response.status,
      problem.code ?? 'fault',
      problem.title ?? `The server answered ${response.status}.`,
      problem.member,
    );
  }
  const url = URL.createObjectURL(await response.blob());
  const a = document.createElement('a');
  a.href = url;
  a.download = name;
  a.click();
  URL.revokeObjectURL(url);
}

/** Sends a file as it is; what is wrong in it is an answer too. */
export async function putFile<T>(path: string, file: File): Promise<T> {
  const response = await fetch(path, {
    method: 'PUT',
    body: file,
    headers: { 'Content-Type': 'application/json', 'X-Imbrek-Token': token },
  });
  const body = (await response.json()) as T & { title?: string; code?: string; member?: string };
  if (!response.ok && response.status !== 422) {
    throw new ApiError(response.status, body.code ?? 'fault', body.title ?? 'It was not taken.', body.member);
  }
  return body;
}

/** Sends files, which the typed client has no good words for. */
export async function sendFiles(path: string, form: FormData): Promise<Schemas['ImportResult']> {
  const response = await fetch(path, { method: 'POST', body: form, headers: { 'X-Imbrek-Token': token } });
  const body = (await response.json()) as Schemas['ImportResult'] & { title?: string; code?: string; member?: string };
  if (!response.ok && response.status !== 422) {
    throw new ApiError(
      response.status,
      body.code ?? 'fault',
      body.title ?? 'The files could not be taken.',
      body.member,
    );
  }
  return body;
}
