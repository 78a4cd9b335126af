import { describe, expect, it } from 'vitest'
import { clock, day, moment, over, rate, size, span, turnZone, visible, zone } from './format'

describe('figures', () => {
  it('show sizes with binary units', () => {
    expect(size(0)).toBe('0 B')
    expect(size(1023)).toBe('1023 B')
    expect(size(1024)).toBe('1.0 KiB')
    expect(size(1024 ** 2 - 1)).toBe('1.0 MiB')
    expect(size(5 * 1024 ** 3)).toBe('5.0 GiB')
    expect(size(3 * 1024 ** 5)).toBe('3.0 PiB')
    expect(rate(2048.4)).toBe('2.0 KiB/s')
  })

  it('show spans as people say them', () => {
    expect(span(0.0214)).toBe('21 ms')
    expect(span(5.44)).toBe('5.4 s')
    expect(span(75)).toBe('1 min 15 s')
    expect(span(7320)).toBe('2 h 2 min')
  })

  it('show times in UTC as they stand in the trail', () => {
    expect(moment('2026-03-01T11:22:33.456789Z')).toBe('2026-03-01 11:22:33')
    expect(moment(undefined)).toBe('never')
    expect(clock('2026-03-01T11:22:33Z')).toBe('11:22:33')
  })
})

describe('names', () => {
  it('show control characters and direction marks as escapes', () => {
    expect(visible('plate-01.tif')).toBe('plate-01.tif')
    expect(visible('größe ñ')).toBe('größe ñ')
    expect(visible('a\u001b[2Jb\n')).toBe('a\\u001b[2Jb\\u000a')
    expect(visible('exe\u202egpj')).toBe('exe\\u202egpj')
  })

  it('say how a protocol was protected', () => {
    expect(over('ftp', true)).toBe('FTP + TLS')
    expect(over('ftp', false)).toBe('FTP')
    expect(over('sftp', true)).toBe('SFTP')
  })
})

describe('times', () => {
  it('are in UTC until the reader wants them elsewhere', () => {
    expect(moment('2026-07-01T22:30:00Z')).toBe('2026-07-01 22:30:00')
    zone.value = 'Europe/Lisbon'
    expect(moment('2026-07-01T22:30:00Z')).toBe('2026-07-01 23:30:00')
    expect(day('2026-07-01T23:30:00Z')).toBe('2026-07-02')
    expect(clock('2026-12-01T08:00:05.5Z')).toBe('08:00:05')
    expect(moment(undefined)).toBe('never')
    turnZone() // back
    expect(zone.value).toBe('UTC')
    expect(localStorage.getItem('zone')).toBe('UTC')
  })
})
