// What the console has to go to: its pages in the four groups of the rail, and the
// settings that have a place on a page of their own.
export const rail = [
  { text: 'Now', pages: [{ name: 'overview', to: '/', text: 'Overview' }, { name: 'sessions', to: '/sessions', text: 'Sessions' }, { name: 'transfers', to: '/transfers', text: 'Transfers' }, { name: 'traffic', to: '/traffic', text: 'Traffic' }] },
  { text: 'People and files', pages: [{ name: 'accounts', to: '/accounts', text: 'Accounts' }, { name: 'groups', to: '/groups', text: 'Groups' }, { name: 'shelf', to: '/shelf', text: 'Key shelf' }, { name: 'sources', to: '/sources', text: 'Sources' }, { name: 'passes', to: '/passes', text: 'Passes' }, { name: 'stores', to: '/stores', text: 'Stores and quotas' }, { name: 'notices', to: '/notices', text: 'Notices' }, { name: 'gate', to: '/gate', text: 'Gate' }] },
  { text: 'Evidence', pages: [{ name: 'audit', to: '/audit', text: 'Audit trail' }, { name: 'reports', to: '/reports', text: 'Reports' }, { name: 'history', to: '/history', text: 'Changes' }] },
  { text: 'The service', pages: [{ name: 'check-up', to: '/check-up', text: 'Check-up' }, { name: 'operators', to: '/operators', text: 'Operators' }, { name: 'settings', to: '/settings', text: 'Settings' }, { name: 'set-up', to: '/set-up', text: 'Set-up' }] },
] as const

export const settings = [
  { to: '/settings#identity', text: 'Name and host name of the service' },
  { to: '/settings#listeners', text: 'Listeners, passive ports, encryption' },
  { to: '/settings#certificate', text: 'TLS certificates' },
  { to: '/settings#host-keys', text: 'SSH host keys' },
  { to: '/settings#collector', text: 'Syslog collector' },
  { to: '/settings#mail', text: 'Mail server' },
  { to: '/notices#receivers', text: 'Receivers of notices' },
  { to: '/settings#retention', text: 'Retention and archives' },
  { to: '/gate', text: 'Network rules' },
  { to: '/gate#lockouts', text: 'Lockouts' },
  { to: '/gate#limits', text: 'Limits: failed sign-ins, sessions, transfers' },
  { to: '/stores#grounds', text: 'Where stores may lie' },
  { to: '/operators#access', text: 'Console sign-ins and API tokens' },
  { to: '/operators#own', text: 'Your password and one-time codes' },
  { to: '/check-up#ports', text: 'Ports to open' },
] as const

const titles: Record<string, string> = {
  ...Object.fromEntries(rail.flatMap((group) => group.pages.map((p) => [p.name, p.text]))),
  handover: 'Hand-over sheet', 'sign-in': 'Sign in', password: 'Your password', setup: 'First operator',
}

// titleOf is what the browser's tab says of a page, and of what is open on it.
export function titleOf(name: unknown, params: Record<string, string | string[]> = {}): string {
  const open = Object.values(params).flat().filter(Boolean).join(' ')
  return [open, titles[String(name)], 'Urban Keep'].filter(Boolean).join(' · ')
}
