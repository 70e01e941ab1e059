import { defineStore } from 'pinia'
import { ref } from 'vue'

import { api, type Kind, type Note } from '../api/client'
import { useEvery } from './useEvery'

/** The notes that are open, for the marks beside names. */
export const useNotes = defineStore('notes', () => {
  const open = ref(new Map<string, Note[]>())
  async function load() {
    try {
      const map = new Map<string, Note[]>()
      for (const n of await api.notes({ open: true })) {
        const key = `${n.kind} ${n.name}`
        map.set(key, [...(map.get(key) ?? []), n])
      }
      open.value = map
    } catch {
      // the page that shows them says what is wrong
    }
  }
  useEvery(10_000, load)
  const at = (kind: Kind, name: string) => open.value.get(`${kind} ${name}`) ?? []
  return { load, at }
})
