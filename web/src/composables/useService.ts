import { defineStore } from 'pinia'
import { ref } from 'vue'

import { api, ApiProblem } from '../api/client'
import { useEvery } from './useEvery'

/** What the frame shows of the service: whether it answers, its version, whether it simulates, and the counts that matter. */
export const useService = defineStore('service', () => {
  const answers = ref(true)
  const version = ref('')
  const simulated = ref(false)
  const findings = ref(0)
  const bad = ref(0)
  let asked = false

  async function look() {
    try {
      version.value = (await api.health()).version
      answers.value = true
      if (!asked) {
        // What is simulated can be spoilt; a service for real devices has no such page.
        simulated.value = await api.rig().then(
          () => true,
          (error) => {
            if (error instanceof ApiProblem && error.problem.status === 401) throw error
            return false
          },
        )
        asked = true
      }
      const [found, status] = await Promise.all([api.findings(), api.status()])
      findings.value = found.items.length + found.watching.length
      bad.value = status.stations.reduce((sum, s) => sum + s.points.bad, 0)
    } catch (error) {
      answers.value = error instanceof ApiProblem // which is an answer, too, such as that one must sign in
    }
  }
  useEvery(4000, look)
  return { answers, version, simulated, findings, bad }
})
