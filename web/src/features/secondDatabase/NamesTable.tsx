import Box from '@mui/material/Box';
import TextField from '@mui/material/TextField';
import type { Schemas } from '../../api/client';

type Name = Schemas['SecondNameView'];

const word = { file: 'file', account: 'account' };

const keyOf = (n: Pick<Name, 'kind' | 'from'>) => `${n.kind}/${n.from}`;

/** The names of files and accounts that a database brings, who has them already, and what they are called instead. */
export function NamesTable({
  names,
  wanted,
  onWant,
}: {
  names: Name[];
  /** What people want them to be called, by key; without it they are shown only. */
  wanted?: Record<string, string>;
  onWant?: (key: string, to: string) => void;
}) {
  return (
    <Box component="table" sx={{ borderCollapse: 'collapse', width: '100%', '& td, & th': { py: 0.4, pr: 1.5 } }}>
      <thead>
        <Box component="tr" sx={{ textAlign: 'left', color: 'text.secondary', '& th': { fontWeight: 400 } }}>
          <th scope="col">Brings</th>
          {onWant && <th scope="col">Has that name there</th>}
          <th scope="col">Is called</th>
        </Box>
      </thead>
      <tbody>
        {names.map((n) => (
          <tr key={keyOf(n)}>
            <td>
              <Box component="span" sx={{ color: 'text.secondary' }}>
                {word[n.kind]}{' '}
              </Box>
              {n.from}
            </td>
            {onWant && (
              <Box component="td" sx={{ color: n.takenBy ? 'verdict.atRisk' : 'text.secondary' }}>
                {n.takenBy ?? 'nobody'}
              </Box>
            )}
            <td>
              {onWant ? (
                <TextField
                  placeholder={n.to}
                  value={wanted?.[keyOf(n)] ?? ''}
                  onChange={(e) => onWant(keyOf(n), e.target.value)}
                  slotProps={{ htmlInput: { 'aria-label': `${word[n.kind]} ${n.from} is called`, maxLength: 200 } }}
                  sx={{ width: 230 }}
                />
              ) : n.to === n.from ? (
                <Box component="span" sx={{ color: 'text.secondary' }}>
                  the same
                </Box>
              ) : (
                n.to
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </Box>
  );
}
