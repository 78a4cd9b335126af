import type { GlobalThemeOverrides } from 'naive-ui'

// The colours of look.css, as Naive UI wants them.
const shape = { borderRadius: '4px', fontFamily: 'inherit', fontFamilyMono: "ui-monospace, 'DejaVu Sans Mono', monospace", fontWeightStrong: '600' }

export const light: GlobalThemeOverrides = {
  common: {
    ...shape,
    primaryColor: '#1f5b4c', primaryColorHover: '#2a7260', primaryColorPressed: '#174438', primaryColorSuppl: '#2a7260',
    errorColor: '#9a2f21', errorColorHover: '#b23c2c', errorColorPressed: '#7d2519', errorColorSuppl: '#b23c2c',
    warningColor: '#8a4d14', warningColorHover: '#a35f1f', warningColorPressed: '#6d3c0e', warningColorSuppl: '#a35f1f',
    textColorBase: '#292622', textColor1: '#292622', textColor2: '#292622', textColor3: '#615a50', placeholderColor: '#6f675c',
    bodyColor: '#efebe3', cardColor: '#faf8f4', modalColor: '#faf8f4', popoverColor: '#ffffff', inputColor: '#ffffff',
    borderColor: '#cfc7b8', dividerColor: '#d9d2c5',
  },
}

export const dark: GlobalThemeOverrides = {
  common: {
    ...shape,
    primaryColor: '#7cc4ab', primaryColorHover: '#93d2bc', primaryColorPressed: '#63ab93', primaryColorSuppl: '#63ab93',
    errorColor: '#ec9283', errorColorHover: '#f3a699', errorColorPressed: '#d77b6b', errorColorSuppl: '#d77b6b',
    warningColor: '#e0a468', warningColorHover: '#eab682', warningColorPressed: '#c98d52', warningColorSuppl: '#c98d52',
    textColorBase: '#e9e4da', textColor1: '#e9e4da', textColor2: '#e9e4da', textColor3: '#b0a799', placeholderColor: '#9c9385',
    bodyColor: '#1b1a18', cardColor: '#242220', modalColor: '#242220', popoverColor: '#2d2a27', inputColor: '#2d2a27',
    borderColor: '#4a443d', dividerColor: '#403b35',
  },
}
