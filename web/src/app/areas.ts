/** The areas in the order of the work. Those that come later are not shown yet. */
export const areas = [
  { word: 'Fleet', path: '/fleet', matches: (p: string) => p.startsWith('/fleet') || p.startsWith('/databases') },
  { word: 'Plans', path: '/plans', matches: (p: string) => p.startsWith('/plans') },
  { word: 'Timetable', path: '/timetable', matches: (p: string) => /^\/(timetable|runs|notices)/.test(p) },
  { word: 'Recover', path: '/recover', matches: (p: string) => /^\/(recover|copies|moves|changes)/.test(p) },
  { word: 'Replicas', path: '/replicas', matches: (p: string) => p.startsWith('/replicas') },
  { word: 'Drills', path: '/drills', matches: (p: string) => p.startsWith('/drills') },
  { word: 'Evidence', path: '/evidence', matches: (p: string) => /^\/(evidence|agreed)/.test(p) },
  { word: 'Setup', path: '/setup', matches: (p: string) => p.startsWith('/setup') },
];
