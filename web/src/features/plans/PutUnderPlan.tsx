import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import { useQuery } from '@tanstack/react-query';
import { api, got } from '../../api/client';
import { useGo } from '../../app/premise';

/** Takes databases to the worksheet of a plan, old or new, where one sees what it would come to before it is saved. */
export function PutUnderPlan({ databases }: { databases: string[] }) {
  const go = useGo();
  const plans = useQuery({ queryKey: ['plans'], queryFn: () => got(api.GET('/api/plans')) });
  const ready = useQuery({
    queryKey: ['ready-plans'],
    staleTime: Infinity,
    queryFn: () => got(api.GET('/api/ready-plans')),
  });
  return (
    <TextField
      select
      size="small"
      label={`Put ${databases.length === 1 ? 'it' : databases.length} under`}
      value=""
      disabled={databases.length === 0}
      onChange={(e) => {
        const [kind, id = ''] = e.target.value.split(' ');
        if (kind === 'plan') go(`/plans/${id}`, { add: databases.join(',') });
        else go('/plans/new', { ready: id, add: databases.join(',') });
      }}
      sx={{ width: 150 }}
    >
      {(plans.data?.plans ?? []).map((p) => (
        <MenuItem key={p.id} value={`plan ${p.id}`}>
          {p.name}
        </MenuItem>
      ))}
      {(ready.data ?? []).map((r, i) => (
        <MenuItem key={`ready${i}`} value={`ready ${i}`}>
          A new plan: {(r as unknown as { name: string }).name}
        </MenuItem>
      ))}
    </TextField>
  );
}
