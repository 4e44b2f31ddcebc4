import 'vuetify/styles'
import './console.css'
import { createVuetify } from 'vuetify'
import { aliases, mdi } from 'vuetify/iconsets/mdi-svg'

const THEME_CHOICE = 'ledgerman-theme'

/** Light or dark as the system has it, until a person chose otherwise. */
export const vuetify = createVuetify({
  icons: { defaultSet: 'mdi', aliases, sets: { mdi } },
  theme: {
    defaultTheme: localStorage.getItem(THEME_CHOICE) ?? 'system',
    themes: {
      // Texts that stand back, and words in a color, keep a contrast of 4.5 to 1 (WCAG 2.1, 1.4.3), on a pale ground of that color too.
      light: {
        colors: {
          primary: '#1f5f5b',
          secondary: '#6b5b2e',
          background: '#f6f6f2',
          surface: '#ffffff',
          success: '#2e6b30',
          info: '#1b5e97',
          warning: '#8a5300',
        },
        variables: { 'medium-emphasis-opacity': 0.72 },
      },
      dark: {
        dark: true,
        colors: {
          primary: '#7cc4bd',
          secondary: '#d3bd7d',
          background: '#15191a',
          surface: '#1e2425',
          success: '#81c784',
          info: '#7ab8f0',
          error: '#f08a9c',
          warning: '#e8b04a',
        },
        variables: { 'medium-emphasis-opacity': 0.75 },
      },
    },
  },
  defaults: {
    VTextField: { variant: 'outlined', density: 'compact' },
    VTextarea: { variant: 'outlined', density: 'compact' },
    VSelect: { variant: 'outlined', density: 'compact' },
    VAutocomplete: { variant: 'outlined', density: 'compact' },
    VCard: { variant: 'flat', border: true },
    VBtn: { variant: 'tonal' },
  },
})

/** Keeps the choice for the next visit. */
export function rememberTheme(name: string): void {
  localStorage.setItem(THEME_CHOICE, name)
}
