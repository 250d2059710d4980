import Dialog from '@mui/material/Dialog';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import { areas } from './areas';

const keys: [string, string][] = [
  ['/', 'Find a database'],
  [`1 – ${areas.length}`, `Go to ${areas.map((a) => a.word).join(', ')}`],
  [', and .', 'Move the instant to the previous or next set; with Shift, by a day'],
  ['n', 'Back to now'],
  ['x', 'Suppose the next kind of loss'],
  ['r', 'Recover the chosen database'],
  ['↑ ↓ Enter', 'Move in a table and open'],
  ['?', 'This list'],
];

export function KeysHelp({ open, onClose }: { open: boolean; onClose: () => void }) {
  return (
    <Dialog open={open} onClose={onClose} aria-labelledby="keys-title">
      <DialogTitle id="keys-title">Keys</DialogTitle>
      <DialogContent>
        <Table size="small" aria-label="Keys">
          <TableBody>
            {keys.map(([key, what]) => (
              <TableRow key={key}>
                <TableCell component="th" scope="row">
                  <code>{key}</code>
                </TableCell>
                <TableCell>{what}</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </DialogContent>
    </Dialog>
  );
}
