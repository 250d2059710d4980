import type { Schemas } from '../../api/client';

/** A part of a change as it is written: statements, one a line, or the version it moves to. */
export interface PartDraft {
  name: string;
  moves: boolean;
  text: string;
}

/** A change as it is written. */
export interface Draft {
  name: string;
  engine: string;
  keepsOut: boolean;
  parts: PartDraft[];
  queries: { name: string; query: string }[];
}

export const emptyPart = (): PartDraft => ({ name: '', moves: false, text: '' });

export const emptyDraft = (engine: string): Draft => ({
  name: '',
  engine,
  keepsOut: false,
  parts: [{ name: 'change', moves: false, text: '' }],
  queries: [],
});

/** What is kept, as it is written. */
export const draftOf = (c: Schemas['ChangeBody']): Draft => ({
  name: c.name,
  engine: c.engine,
  keepsOut: c.keepsOut ?? false,
  parts: (c.parts ?? []).map((p) => ({
    name: p.name,
    moves: p.upgradesTo !== null,
    text: p.upgradesTo ?? (p.statements ?? []).join('\n'),
  })),
  queries: (c.queries ?? []).map((q) => ({ ...q })),
});

/** What is written, to be kept. Statements end with their line, or, where one is longer, with a semicolon at the end of a line. */
export const bodyOf = (d: Draft): Schemas['ChangeBody'] => ({
  name: d.name.trim(),
  engine: d.engine,
  keepsOut: d.keepsOut,
  parts: d.parts.map((p) => ({
    name: p.name.trim(),
    upgradesTo: p.moves ? p.text.trim() : null,
    statements: p.moves ? null : statementsOf(p.text),
  })),
  queries: d.queries.filter((q) => q.name.trim() !== '' || q.query.trim() !== ''),
});

/** The statements of a text: each on its line; where a line ends with a semicolon, what stands before it back to the last such line. */
export function statementsOf(text: string): string[] {
  const lines = text.split('\n').map((l) => l.trimEnd());
  if (!lines.some((l) => l.endsWith(';'))) return lines.map((l) => l.trim()).filter((l) => l !== '');
  const found: string[] = [];
  let open: string[] = [];
  for (const line of lines) {
    open.push(line);
    if (line.endsWith(';')) {
      found.push(open.join('\n').trim());
      open = [];
    }
  }
  const rest = open.join('\n').trim();
  return rest === '' ? found : [...found, rest];
}

/** An identifier after a name. */
export const idOf = (name: string) =>
  name
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^-+|-+$/g, '')
    .slice(0, 60);
