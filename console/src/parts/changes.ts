import type { Schemas } from '@/api/client'

type Fields = Record<string, unknown>

// fields are those of an object, with its settings as fields of their own.
function fields(value: Fields): Fields {
  const { settings, ...rest } = value
  return { ...rest, ...(settings as Fields | undefined) }
}

const say = (value: unknown) => (value === undefined || value === null || value === '' ? 'nothing' : typeof value === 'string' ? value : JSON.stringify(value))

// differences says what a change changed, a line for each field.
export function differences(c: Pick<Schemas['Change'], 'before' | 'after'>): string[] {
  if (!c.before) return ['added']
  if (!c.after) return ['removed']
  const before = fields(c.before as Fields)
  const after = fields(c.after as Fields)
  return [...new Set([...Object.keys(before), ...Object.keys(after)])]
    .filter((key) => JSON.stringify(before[key]) !== JSON.stringify(after[key]))
    .map((key) => `${key}: ${say(before[key])} → ${say(after[key])}`)
}
