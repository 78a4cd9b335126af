import type { Schemas } from '@/api/client'
import { size } from '@/format'

// How a notice is said in one line.
export function filtersOf(n: Schemas['Notice']): string {
  const said = [...(n.accounts ?? []), ...(n.groups ?? []).map((g) => `group ${g}`), ...(n.paths ?? [])]
  if (n.networks?.length) said.push(`from ${n.networks.join(' ')}`)
  if (n.protocols?.length) said.push(`over ${n.protocols.join(' ')}`)
  if (n.minSize) said.push(`at least ${size(n.minSize)}`)
  if (n.maxSize) said.push(`at most ${size(n.maxSize)}`)
  if (n.outcomes?.length) said.push(n.outcomes.join(' or '))
  if (n.window) said.push([n.window.days, n.window.hours, n.window.zone || 'UTC'].filter(Boolean).join(' '))
  if (n.expect) said.push(`${n.expect.fetch ? 'fetched ' : ''}by ${n.expect.by} ${n.expect.zone || 'UTC'}${n.expect.days ? ` ${n.expect.days}` : ''}`)
  return said.join(', ')
}

// words are the parts of a list that is typed.
export const words = (text: string) => text.split(/[\s,]+/).filter(Boolean)

// lines are those of a text that say something.
export const lines = (text: string) => text.split('\n').map((line) => line.trim()).filter(Boolean)

// lengthOf says seconds as they are typed: 90s, 10m, 1h, 3d.
export function lengthOf(seconds = 0): string {
  for (const [unit, n] of [['d', 86400], ['h', 3600], ['m', 60]] as const) if (seconds && seconds % n === 0) return `${seconds / n}${unit}`
  return `${seconds}s`
}
