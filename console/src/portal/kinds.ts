import type { Entry } from './calls'

// What browsers show by their own means; the service holds the same list.
const kinds: Record<string, string> = {}
for (const [kind, ends] of Object.entries({ text: 'txt csv log md json xml ini', pdf: 'pdf', audio: 'mp3 m4a ogg oga opus wav flac', video: 'mp4 m4v webm ogv mov' })) for (const end of ends.split(' ')) kinds[end] = kind

export const ending = (name: string) => (name.includes('.') ? name.slice(name.lastIndexOf('.') + 1).toLowerCase() : '')

// kindOf says how a file can be looked at; '' when it can only be downloaded.
export const kindOf = (e: Entry) => (e.kind !== 'file' ? '' : e.picture ? 'picture' : (kinds[ending(e.name)] ?? ''))
