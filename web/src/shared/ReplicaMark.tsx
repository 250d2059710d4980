/** Says that a figure rests on a replica that takes over: two ticks on its line to the primary. */
export function ReplicaMark() {
  return (
    <svg width={15} height={10} viewBox="0 0 15 10" role="img" aria-label="rests on a replica" style={{ flex: 'none' }}>
      <path d="M1 5h12M4 2v6M8 1v8M13.5 0v10" stroke="currentColor" strokeWidth={1.3} fill="none" />
    </svg>
  );
}
