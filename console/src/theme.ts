import 'vuetify/styles'

import { createVuetify, type ThemeDefinition } from 'vuetify'
import { aliases, mdi } from 'vuetify/iconsets/mdi-svg'

// The colour tokens of the product. Quantities keep their colour everywhere; amber is kept for what is live.
export const tokens = {
  light: {
    paper: '#f5f1e8',
    surface: '#fffdf8',
    raised: '#ffffff',
    ink: '#1d2a2b',
    muted: '#5b6a6b',
    line: '#ddd5c5',
    live: '#935300',
    liveFill: '#f3b33d',
    volts: '#0067a5',
    amps: '#c94f00',
    watts: '#00795a',
    celsius: '#a34a80',
    charge: '#8a6a00',
    pass: '#00684d',
    passFill: '#d8efe6',
    marginal: '#8f5600',
    marginalFill: '#fbe8c5',
    fail: '#a3231c',
    failFill: '#f8dcd8',
    idleFill: '#ece6d9',
  },
  dark: {
    paper: '#101c1c',
    surface: '#172727',
    raised: '#1d3030',
    ink: '#e9f0ec',
    muted: '#9bb0ab',
    line: '#2a3f3e',
    live: '#f3b33d',
    liveFill: '#f3b33d',
    volts: '#5fb8ee',
    amps: '#f58a4b',
    watts: '#35c79a',
    celsius: '#d999c0',
    charge: '#d9b84a',
    pass: '#58d3ac',
    passFill: '#123c30',
    marginal: '#f0b75a',
    marginalFill: '#43310f',
    fail: '#ff9d92',
    failFill: '#4a1f1b',
    idleFill: '#1f3231',
  },
} as const

export type Tokens = { [K in keyof (typeof tokens)['light']]: string }

function definition(dark: boolean, t: Tokens): ThemeDefinition {
  return {
    dark,
    colors: {
      background: t.paper,
      surface: t.surface,
      'surface-bright': t.raised,
      'on-background': t.ink,
      'on-surface': t.ink,
      primary: t.ink,
      'on-primary': t.paper,
      secondary: t.muted,
      error: t.fail,
      success: t.pass,
      warning: t.marginal,
      info: t.volts,
    },
    variables: { 'border-color': t.line, 'border-opacity': 1, 'medium-emphasis-opacity': 0.75 },
  }
}

const nonce = document.querySelector<HTMLMetaElement>('meta[name=csp-nonce]')?.content
const remembered = localStorage.getItem('theme')
const preferred = matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light'

export const vuetify = createVuetify({
  icons: { defaultSet: 'mdi', aliases, sets: { mdi } },
  theme: {
    defaultTheme: remembered ?? preferred,
    cspNonce: nonce,
    themes: { light: definition(false, tokens.light), dark: definition(true, tokens.dark) },
  },
  defaults: {
    VBtn: { variant: 'outlined', rounded: 'lg' },
    VTextField: { variant: 'outlined', density: 'comfortable' },
    VSelect: { variant: 'outlined', density: 'comfortable' },
    VCard: { elevation: 0, border: true, rounded: 'lg' },
  },
})
