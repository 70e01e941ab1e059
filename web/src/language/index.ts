import { createI18n } from 'vue-i18n'

import de from './de.json'
import en from './en.json'

/** The languages, as they call themselves. One more is a file beside these and a line here. */
export const languages = { en: 'English', de: 'Deutsch' } as const
export type Language = keyof typeof languages

const stored = localStorage.getItem('language')
const first = stored && stored in languages ? (stored as Language) : 'en'

export const i18n = createI18n({ legacy: false, locale: first, fallbackLocale: 'en', messages: { en, de } })

/** Says a text of the catalogue where there is no component. */
export const say = i18n.global.t

export function speak(language: Language) {
  i18n.global.locale.value = language
  localStorage.setItem('language', language)
  document.documentElement.lang = language
}
document.documentElement.lang = first
