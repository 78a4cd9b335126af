import { describe, expect, it } from 'vitest'
import { dark, light } from './theme'

// The contrast of two colours (WCAG 2.2, section 1.4.3).
function contrast(a: string, b: string): number {
  const luminance = (colour: string) => {
    const [r, g, blue] = [1, 3, 5].map((at) => {
      const v = parseInt(colour.slice(at, at + 2), 16) / 255
      return v <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4
    }) as [number, number, number]
    return 0.2126 * r + 0.7152 * g + 0.0722 * blue
  }
  const [hi, lo] = [luminance(a), luminance(b)].sort((x, y) => y - x) as [number, number]
  return (hi + 0.05) / (lo + 0.05)
}

// What the accessibility check in the browser can't see, for frames lie over it.
describe.each([
  ['light', light.common!, '#ffffff'],
  ['dark', dark.common!, '#000000'], // as Naive UI writes on buttons
])('the %s look', (_, c, onButton) => {
  it.each([
    ['text in a field', c.textColor2!, c.inputColor!],
    ['a hint in a field', c.placeholderColor!, c.inputColor!],
    ['text on a plain button', c.textColor2!, c.cardColor!],
    ['text on the page', c.textColor3!, c.bodyColor!],
    ['text on a main button', onButton, c.primaryColor!],
    ['text on a main button under the pointer', onButton, c.primaryColorHover!],
    ['a button that deletes', c.errorColor!, c.cardColor!],
  ])('%s can be read', (_, text, ground) => {
    expect(contrast(text, ground)).toBeGreaterThanOrEqual(4.5)
  })
})
