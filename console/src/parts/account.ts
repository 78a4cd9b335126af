import type { Account } from '@/api/client'

// How an account's settings are said in one line.

export const homeOf = (a: Account) => {
  const home = a.inForce.mounts.find((m) => m.at === '/')
  return home ? `${home.store}:${home.folder}` : ''
}

export const rightsOf = (a: Account) => {
  const root = [...new Set(a.inForce.grants.filter((g) => g.path === '/').map((g) => g.rights))].join(' and ') || 'none'
  const more = a.inForce.grants.filter((g) => g.path !== '/').length
  return more ? `${root} +${more}` : root
}

export const proofs = [
  { label: 'a password or a key', value: 'either' },
  { label: 'a password', value: 'password' },
  { label: 'a key', value: 'key' },
  { label: 'a key, then the password (SFTP only)', value: 'both' },
] satisfies { label: string; value: Account['signInBy'] }[]

export const bundles = [
  { label: 'full: everything', value: 'full' },
  { label: 'add-only: everything but overwrite, rename, delete', value: 'add-only' },
  { label: 'read-only: list and download', value: 'read-only' },
  { label: 'drop-only: upload, nothing else', value: 'drop-only' },
  { label: 'none', value: 'none' },
]

// roles are those of operators.
export const roles = [
  { label: 'owner', value: 'owner' },
  { label: 'manager', value: 'manager' },
  { label: 'auditor', value: 'auditor' },
]
