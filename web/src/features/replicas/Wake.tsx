import { duration } from '../../shared/format';
import { behind } from './scale';
import { stateColour, type State } from './words';

export interface WakeOf {
  state: State;
  receivedLagSeconds: number | null;
  appliedLagSeconds: number | null;
  rpoSeconds: number | null;
  frozenSince: string | null;
}

/**
 * The wake of a replica: the primary is at the right edge, now; the replica trails behind it with two ticks, received and applied, and what waits to be applied as a bar between them. The RPO
 * stands across it. One that receives nothing has a dashed line from where its time stopped.
 */
export function Wake({
  of,
  at,
  most,
  width,
  height = 22,
}: {
  of: WakeOf;
  at: string;
  most: number;
  width: number;
  height?: number;
}) {
  const { receivedLagSeconds: received, appliedLagSeconds: applied, rpoSeconds: rpo, frozenSince } = of;
  const x = (seconds: number) => width - 3 - behind(seconds, most) * (width - 10);
  const mid = height / 2;
  const colour = stateColour(of.state);
  const frozen = frozenSince === null ? null : (Date.parse(at) - Date.parse(frozenSince)) / 1000;
  const said =
    received === null
      ? 'nothing is known of it'
      : `received up to ${duration(received)} ago, applied up to ${duration(applied)} ago${frozen === null ? '' : `, nothing received for ${duration(frozen)}`}`;
  return (
    <svg width={width} height={height} role="img" aria-label={said} style={{ display: 'block' }}>
      <title>{said}</title>
      <path d={`M${width - 2} 2v${height - 4}`} stroke="var(--mui-palette-text-primary)" strokeWidth={2} />
      <path d={`M4 ${mid}H${width - 3}`} stroke="var(--mui-palette-divider)" />
      {rpo !== null && (
        <path
          d={`M${x(rpo)} 1v${height - 2}`}
          stroke="var(--mui-palette-verdict-breached)"
          strokeWidth={1}
          strokeDasharray="1 2"
        />
      )}
      {received !== null && applied !== null && (
        <>
          <path
            d={`M${x(received)} ${mid}H${width - 3}`}
            stroke={colour}
            strokeWidth={1.5}
            strokeDasharray={frozen === null ? undefined : '2 3'}
          />
          <rect
            x={x(applied)}
            y={mid - 3}
            width={Math.max(0, x(received) - x(applied))}
            height={6}
            fill={colour}
            opacity={0.35}
          />
          <path d={`M${x(applied)} ${mid - 5}v10`} stroke={colour} strokeWidth={2} />
          <path d={`M${x(received)} ${mid - 8}v16`} stroke={colour} strokeWidth={2} />
          {frozen !== null && (
            <circle cx={x(frozen)} cy={mid} r={2.5} fill="var(--mui-palette-background-paper)" stroke={colour} />
          )}
          {applied > most && <path d={`M4 ${mid}l5 -4v8z`} fill={colour} />}
        </>
      )}
    </svg>
  );
}
