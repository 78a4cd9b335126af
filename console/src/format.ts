import { ref } from 'vue'

// Forms for numbers and times, the same on every page.

export function size(bytes: number): string {
  if (bytes < 1024) return `${bytes} B`
  let value = bytes
  for (const unit of ['KiB', 'MiB', 'GiB', 'TiB']) {
    value /= 1024
    if (value < 1023.95) return `${value.toFixed(1)} ${unit}`
  }
  return `${(value / 1024).toFixed(1)} PiB`
}

export const rate = (bytesPerSecond: number) => `${size(Math.round(bytesPerSecond))}/s`

export function span(seconds: number): string {
  if (seconds < 1) return `${Math.round(seconds * 1000)} ms`
  if (seconds < 60) return `${seconds.toFixed(1)} s`
  const minutes = Math.floor(seconds / 60)
  if (minutes < 60) return `${minutes} min ${Math.floor(seconds % 60)} s`
  return `${Math.floor(minutes / 60)} h ${minutes % 60} min`
}

// days says a time that somebody has, roughly.
export function days(seconds: number): string {
  const [n, unit] = seconds < 7200 ? [seconds / 60, 'minute'] : seconds < 172800 ? [seconds / 3600, 'hour'] : [seconds / 86400, 'day']
  return `${Math.floor(n)} ${unit}${Math.floor(n) === 1 ? '' : 's'}`
}

// Times are shown in UTC, as they stand in the trail, or in the zone of the reader.
const own = Intl.DateTimeFormat().resolvedOptions().timeZone
export const zone = ref(localStorage.getItem('zone') === 'own' ? own : 'UTC')
export const hasZone = own !== 'UTC'
export function turnZone() {
  zone.value = zone.value === 'UTC' ? own : 'UTC'
  localStorage.setItem('zone', zone.value === 'UTC' ? 'UTC' : 'own')
}
const forms = new Map<string, Intl.DateTimeFormat>()
function inZone(iso: string): string {
  if (zone.value === 'UTC' && iso.endsWith('Z')) return iso.slice(0, 19).replace('T', ' ')
  let form = forms.get(zone.value)
  if (!form) forms.set(zone.value, (form = new Intl.DateTimeFormat('sv-SE', { timeZone: zone.value, dateStyle: 'short', timeStyle: 'medium' })))
  return form.format(new Date(iso)) // Swedish writes times as ISO 8601 does
}
export const moment = (iso: string | undefined) => (iso ? inZone(iso) : 'never')
export const minute = (iso: string | undefined) => moment(iso).slice(0, 16)
export const day = (iso: string) => moment(iso).slice(0, 10)
export const clock = (iso: string) => moment(iso).slice(11, 19)

// over names a protocol and says when it is in clear.
export const over = (protocol: string, encrypted: boolean) => protocol.toUpperCase() + (protocol === 'ftp' && encrypted ? ' + TLS' : '')

// visible shows control characters in a name as escapes.
export const visible = (name: string) =>
  name.replace(/[\u0000-\u001f\u007f-\u009f\u200e\u200f\u202a-\u202e\u2066-\u2069]/g, (c) => `\\u${c.charCodeAt(0).toString(16).padStart(4, '0')}`)
