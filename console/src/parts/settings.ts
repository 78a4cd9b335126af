import type { Schemas } from '@/api/client'

// Settings as texts of a form, by name.
export const textsOf = (set: Schemas['SettingInForce'][]): Record<string, string> => Object.fromEntries(set.map((s) => [s.name, s.text]))

// changed are the settings whose text is another than it was; an empty one is taken away.
export const changed = (was: Record<string, string>, is: Record<string, string>) =>
  Object.fromEntries(
    Object.entries(is)
      .filter(([name, text]) => text !== (was[name] ?? ''))
      .map(([name, text]) => [name, text || null]),
  ) as Schemas['Settings']
