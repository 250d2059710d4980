import { ThemeProvider } from '@mui/material/styles';
import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { render } from '@testing-library/react';
import type { ReactNode } from 'react';
import { MemoryRouter, Route, Routes, useLocation } from 'react-router';
import { vi } from 'vitest';
import { SessionContext } from '../app/session';
import { theme } from '../app/theme';

type Answer = unknown;

/** What was asked of the server, newest last. */
export interface Asked {
  method: string;
  path: string;
  query: URLSearchParams;
  body: unknown;
}

// The client takes the fetch it finds when it is made: this module is imported before it.
let answering: (request: Request) => Promise<Response> = () => Promise.reject(new Error('no server is there'));
vi.stubGlobal('fetch', (input: Request | string, init?: RequestInit) =>
  answering(input instanceof Request ? input : new Request(input, init)),
);

/** A server that answers, at once or when a promise is kept, from a table of "GET /api/path"; what is not in it is a fault of the test. */
export function server(answers: Record<string, Answer | ((asked: Asked) => Answer)>): Asked[] {
  const asked: Asked[] = [];
  answering = async (request: Request) => {
    const url = new URL(request.url);
    const text = request.method === 'GET' ? '' : await request.text();
    const one: Asked = {
      method: request.method,
      path: url.pathname,
      query: url.searchParams,
      body: text.startsWith('{') ? JSON.parse(text) : undefined,
    };
    asked.push(one);
    const answer = answers[`${one.method} ${one.path}`];
    if (answer === undefined) return json({ title: `nobody answers ${one.method} ${one.path}` }, 404);
    const given = await (typeof answer === 'function' ? (answer as (a: Asked) => Answer)(one) : answer);
    return given instanceof Refusal ? json({ title: given.message, member: given.member }, given.status) : json(given);
  };
  return asked;
}

/** What a server says when it refuses. */
export class Refusal {
  constructor(
    readonly status: number,
    readonly message: string,
    readonly member?: string,
  ) {}
}

const json = (body: unknown, status = 200) =>
  new Response(JSON.stringify(body), { status, headers: { 'content-type': 'application/json' } });

export const places = {
  things: ['quay-s2', 'hill-s1', 'north-o1'].map((id) => ({ kind: 'store', id, name: id })),
  timeZones: ['Europe/Oslo'],
};

/** Shows a page at an address, as somebody with roles; the address it leads to can be read. */
export function show(
  node: ReactNode,
  at = '/',
  roles: string[] = ['administer'],
  path = '*',
  queries = new QueryClient({ defaultOptions: { queries: { retry: false }, mutations: { retry: false } } }),
) {
  return render(
    <ThemeProvider theme={theme}>
      <QueryClientProvider client={queries}>
        <SessionContext value={{ name: 'ada', shownName: 'Ada', roles, antiforgeryToken: 't' } as never}>
          <MemoryRouter initialEntries={[at]}>
            <Address />
            <Routes>
              <Route path={path} element={node} />
              <Route path="*" element={null} />
            </Routes>
          </MemoryRouter>
        </SessionContext>
      </QueryClientProvider>
    </ThemeProvider>,
  );
}

function Address() {
  const { pathname, search } = useLocation();
  return <div data-testid="address">{decodeURIComponent(pathname + search)}</div>;
}
