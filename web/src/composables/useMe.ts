import { defineStore } from 'pinia'
import { computed, ref } from 'vue'

import { api, onSignedOut, type Me } from '../api/client'

export const roles = ['viewer', 'operator', 'engineer', 'admin'] as const
export type Role = (typeof roles)[number]

/** Who uses the console, and what they may. */
export const useMe = defineStore('me', () => {
  const me = ref<Me>()
  const needed = ref(false) // to sign in

  async function load() {
    try {
      me.value = await api.me()
      needed.value = !me.value.open && !me.value.account
    } catch {
      // the frame says that the service does not answer; it is asked again with the next page
    }
  }
  onSignedOut(() => {
    if (!needed.value) void load()
  })
  /** Whether a role is enough; true until it is known, since the service refuses what is not allowed. */
  const may = (role: Role) => !me.value?.role || roles.indexOf(me.value.role as Role) >= roles.indexOf(role)
  const person = computed(() => (me.value && !me.value.open ? me.value.account : undefined))

  async function signIn(what: object) {
    me.value = await api.signIn(what)
    needed.value = false
  }
  async function signOut() {
    await api.signOut()
    await load()
  }
  return { me, needed, person, may, load, signIn, signOut }
})
