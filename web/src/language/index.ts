import { createI18n } from 'vue-i18n'
import { shallowRef, watch } from 'vue'

import de from './de.json'
import en from './en.json'

/** The languages, as they call themselves. One more is a file beside these and a line here. */
export const languages = { en: 'English', de: 'Deutsch' } as const
export type Language = keyof typeof languages

const stored = globalThis.localStorage?.getItem('language') // there is none in tests
const first = stored && stored in languages ? (stored as Language) : 'en'

export const i18n = createI18n({ legacy: false, locale: first, fallbackLocale: 'en', messages: { en, de } })

/** Says a text of the catalogue where there is no component. */
export const say = i18n.global.t

/** What the service says of findings, in a language that is not its own, by the names of the sentences. */
const sentences = shallowRef<Record<string, string>>({})
watch(
  i18n.global.locale,
  async (language) => {
    const said: Record<string, string> = language === 'de' ? (await import('./sentences.de.json')).default : {}
    if (i18n.global.locale.value === language) sentences.value = said
  },
  { immediate: true },
)

/** Says what a finding takes for the cause. */
export function cause(of: { sentence: string; with: Record<string, unknown>; cause: string }): string {
  return sentences.value[of.sentence]?.replace(/\{(\w+)\}/g, (all, name: string) => (name in of.with ? String(of.with[name]) : all)) ?? of.cause
}

export function speak(language: Language) {
  i18n.global.locale.value = language
  localStorage.setItem('language', language)
  document.documentElement.lang = language
}
if (globalThis.document) document.documentElement.lang = first
