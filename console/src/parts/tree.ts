import type { Schemas } from '@/api/client'

// Mounts and grants as rows of a form, and as the one-line texts that the API reads.

type Mount = Schemas['Mount']
type Grant = Schemas['Grant']
export type MountRow = { at: string; place: string; options: string }
export type GrantRow = { path: string; rights: string; conditions: string }

// said are the parts of a mount that a row has a place for: what is not named here would be lost when the form is saved.
const said: Record<keyof Mount, true> = { at: true, store: true, folder: true, readOnly: true, umask: true, quota: true, protocols: true, check: true }
void said

export function mountRow(m: Mount): MountRow {
  const options: string[] = []
  if (m.readOnly) options.push('ro')
  if (m.umask) options.push(`umask=${m.umask}`)
  if (m.quota?.bytes) options.push(`bytes=${m.quota.bytes}`)
  if (m.quota?.files) options.push(`files=${m.quota.files}`)
  if (m.protocols?.length) options.push(`protocols=${m.protocols.join('+')}`)
  if (m.check) {
    options.push(`check=${m.check.receiver}`)
    if (m.check.within) options.push(`check-time=${m.check.within}`)
    if (m.check.unanswered) options.push(`unanswered=${m.check.unanswered}`)
    if (m.check.refused) options.push(`refused=${m.check.refused}`)
  }
  return { at: m.at, place: `${m.store}:${m.folder}`, options: options.join(',') }
}

export const mountText = (r: MountRow) => `${r.at}=${r.place}${r.options ? ',' + r.options : ''}`

export function grantRow(g: Grant): GrantRow {
  const conditions: string[] = []
  const add = (name: string, value?: string) => value && conditions.push(`${name}=${value}`)
  add('only', g.only?.join(','))
  add('never', g.never?.join(','))
  add('from', g.window?.from)
  add('until', g.window?.until)
  add('days', g.window?.days)
  add('hours', g.window?.hours)
  add('zone', g.window?.zone)
  return { path: g.path, rights: g.rights, conditions: conditions.join(';') }
}

export const grantText = (r: GrantRow) => `${r.path}=${r.rights}${r.conditions ? ';' + r.conditions : ''}`
