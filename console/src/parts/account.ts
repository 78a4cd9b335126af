import type { Account } from '@/api/client'

// How an account's settings are said in one line.

export const homeOf = (a: Account) => {
  const home = a.mounts.find((m) => m.at === '/')
  return home ? `${home.store}:${home.folder}` : ''
}

export const rightsOf = (a: Account) => {
  const root = a.grants.find((g) => g.path === '/')?.rights ?? 'none'
  const more = a.grants.filter((g) => g.path !== '/').length
  return more ? `${root} +${more}` : root
}

export const meansOf = (a: Account) => {
  const ways = []
  if (a.hasPassword) ways.push('password')
  if (a.keys) ways.push(a.keys === 1 ? '1 key' : `${a.keys} keys`)
  return ways.join(', ') || 'nothing yet'
}

export const bundles = [
  { label: 'full: everything', value: 'full' },
  { label: 'add-only: everything but overwrite, rename, delete', value: 'add-only' },
  { label: 'read-only: list and download', value: 'read-only' },
  { label: 'drop-only: upload, nothing else', value: 'drop-only' },
  { label: 'none', value: 'none' },
]
