import { ElMessage, ElMessageBox } from 'element-plus'
import { ref, type Ref } from 'vue'

import { api, ApiProblem, message, type Kind } from '../api/client'

/** Saving and removing one entity, with the service's messages beside the fields they speak of. */
export function useForm(kind: Kind, original: Ref<string>, done: (name: string) => void) {
  const faults = ref<Record<string, string>>({})
  const general = ref('')
  const busy = ref(false)

  function clear() {
    faults.value = {}
    general.value = ''
  }

  async function save(fields: object, name: string, known: string[]) {
    busy.value = true
    clear()
    try {
      if (original.value) await api.set(kind, original.value, fields)
      else await api.add(kind, fields)
      ElMessage.success(`${name} saved`)
      done(name)
    } catch (error) {
      if (error instanceof ApiProblem) {
        faults.value = error.fields
        const unseen = Object.entries(error.fields).filter(([field]) => !known.includes(field))
        general.value = unseen.map(([field, text]) => `${field} ${text}`.trim()).join('; ')
        if (Object.keys(error.fields).length === 0) general.value = error.message
      } else {
        general.value = message(error)
      }
    }
    busy.value = false
  }

  async function remove(what: string, cascade = false) {
    try {
      await ElMessageBox.confirm(what, `Remove ${original.value}?`, { confirmButtonText: 'Remove', cancelButtonText: 'Keep', type: 'warning' })
    } catch {
      return
    }
    try {
      await api.remove(kind, original.value, cascade)
      done('')
    } catch (error) {
      general.value = message(error)
    }
  }

  return { faults, general, busy, clear, save, remove }
}
