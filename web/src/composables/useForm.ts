import { ElMessage, ElMessageBox } from 'element-plus'
import { ref, watch, type Ref } from 'vue'

import { api, ApiProblem, message, type Beside, type Kind } from '../api/client'
import { say } from '../language'
import { changedFields, conflicts, type Conflict, type Fields } from './conflict'
import { proposalTitle } from './propose'
import { reveal, useField } from './useField'
import { useMe } from './useMe'

/** How often a save is repeated when somebody else is quicker each time. */
const mostTries = 5

/**
 * Saving and removing one entity, with the service's messages beside the fields they speak of. Of an entity that is there, only what was
 * changed is sent, and only over the version that was looked at: what somebody else changed meanwhile stays, and where both changed
 * a field, the person chooses.
 */
export function useForm(kind: Kind, original: Ref<string>, done: (name: string) => void, entity?: object) {
  const faults = ref<Record<string, string>>({})
  const general = ref('')
  const busy = ref(false)
  const conflicting = ref<Conflict[]>([])
  let before = { ...entity } as Fields // as it was when the form was filled
  let began: Fields = {}
  let chosen: ((mine: string[] | undefined) => void) | undefined
  useField()
  const who = useMe()
  /** Who may not change the site proposes; undefined when there is to be nothing. */
  const beside = async () => {
    if (who.may('engineer')) return {}
    const propose = await proposalTitle()
    return propose ? { propose } : undefined
  }

  /** Takes what the form would save before anything is changed in it. */
  function begin(fields: object) {
    began = JSON.parse(JSON.stringify(fields)) as Fields
  }

  function clear() {
    faults.value = {}
    general.value = ''
  }

  /** Asks which fields are to be as this person has them; undefined when nothing is to be saved. */
  function choose(list: Conflict[]): Promise<string[] | undefined> {
    conflicting.value = list
    return new Promise((resolve) => {
      chosen = (mine) => {
        conflicting.value = []
        chosen = undefined
        resolve(mine)
      }
    })
  }
  const resolve = (mine: string[] | undefined) => chosen?.(mine)

  /** The conflicts with who changed each field last. */
  async function named(list: Conflict[]): Promise<Conflict[]> {
    const records = await api.changesOf(kind, original.value, 50).catch(() => [])
    const whose = (field: string) => records.find((r) => JSON.stringify((r.before as Fields | undefined)?.[field]) !== JSON.stringify((r.after as Fields | undefined)?.[field]))?.who
    return list.map((c) => ({ ...c, who: whose(c.field) }))
  }

  /** Saves what was changed, where anything was; undefined when the person wants to go on with the form. */
  async function change(fields: object, how: Beside): Promise<'saved' | 'unchanged' | undefined> {
    let changed = changedFields(began, JSON.parse(JSON.stringify(fields)) as Fields)
    for (let tries = 0; ; tries++) {
      const now = await api.get<Fields>(kind, original.value)
      const list = conflicts(changed, before, now.answer)
      if (list.length > 0) {
        const mine = await choose(await named(list))
        if (!mine) return undefined
        const theirs = list.map((c) => c.field).filter((field) => !mine.includes(field))
        changed = Object.fromEntries(Object.entries(changed).filter(([field]) => !theirs.includes(field)))
      }
      before = now.answer
      if (Object.keys(changed).length === 0) return 'unchanged'
      try {
        await api.set(kind, original.value, changed, now.version, how)
        return 'saved'
      } catch (error) {
        if (!(error instanceof ApiProblem && error.stale) || tries >= mostTries) throw error
      }
    }
  }

  async function save(fields: object, name: string, known: string[]) {
    busy.value = true
    clear()
    try {
      const how = await beside()
      if (!how) {
        busy.value = false
        return
      }
      const outcome = original.value ? await change(fields, how) : await api.add(kind, fields, how).then(() => 'saved')
      if (!outcome) {
        busy.value = false
        return
      }
      if (outcome === 'saved' && !('propose' in how)) ElMessage.success(say('common.saved', { name }))
      else if (outcome !== 'saved') ElMessage.info(say('common.unchanged', { name: original.value }))
      done(outcome === 'saved' && !('propose' in how) ? name : original.value)
    } catch (error) {
      if (error instanceof ApiProblem) {
        faults.value = error.fields
        const unseen = Object.entries(error.fields).filter(([field]) => !known.includes(field))
        general.value = unseen.map(([field, text]) => `${field} ${text}`.trim()).join('; ')
        if (Object.keys(error.fields).length === 0) general.value = error.message
        Object.keys(error.fields).find(reveal)
      } else {
        general.value = message(error)
      }
    }
    busy.value = false
  }

  async function remove(what: string, cascade = false) {
    try {
      await ElMessageBox.confirm(what, say('common.remove-really', { name: original.value }), { confirmButtonText: say('common.remove'), cancelButtonText: say('common.keep'), type: 'warning' })
    } catch {
      return
    }
    try {
      const how = await beside()
      if (!how) return
      await api.remove(kind, original.value, cascade, how)
      done('')
    } catch (error) {
      general.value = message(error)
    }
  }

  return { faults, general, busy, begin, clear, save, remove, conflicting, resolve }
}

/** Calls f once what a form depends on is known: a page may be opened by its address, before the site came. */
export function whenKnown(what: Ref<unknown>, f: () => void) {
  const stop = watch(what, (value) => {
    if (value === undefined) return
    stop()
    f()
  })
  if (what.value !== undefined) {
    stop()
    f()
  }
}
