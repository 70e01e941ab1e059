import { ElMessage, ElMessageBox } from 'element-plus'
import { useRouter } from 'vue-router'

import { api, message, type FindingStep } from '../api/client'
import { say } from '../language'

/** Carries out the steps of findings: changes of settings after they were shown, and what is asked of the service. */
export function useSteps(after: () => void | Promise<void>) {
  const router = useRouter()

  /** Takes a step that is a change of settings, shown before it is done. */
  async function change(step: FindingStep) {
    const c = step.change
    if (!c) return
    const what = Object.entries(c.fields)
      .map(([field, value]) => `${field}: ${typeof value === 'object' ? JSON.stringify(value) : String(value)}`)
      .join('\n')
    try {
      await ElMessageBox.confirm(say('findings.confirm', { kind: c.kind, name: c.name, what }), step.text, { confirmButtonText: say('findings.change'), cancelButtonText: say('findings.leave') })
    } catch {
      return
    }
    try {
      await api.set(c.kind, c.name, c.fields)
      ElMessage.success(say('findings.changed', { name: c.name }))
      await after()
    } catch (error) {
      ElMessage.error(message(error))
    }
  }

  /** Opens the form of what a step changes, at the first field of the change. */
  function open(step: FindingStep) {
    const c = step.change
    if (c) void router.push({ path: `/${c.kind}s`, query: { [c.kind]: c.name, field: Object.keys(c.fields)[0] } })
  }

  async function told(f: () => Promise<string>) {
    try {
      ElMessage.success(await f())
      await after()
    } catch (error) {
      ElMessage.error(message(error))
    }
  }

  /** Does what a step asks of the service. */
  async function act(step: FindingStep) {
    const a = step.action
    if (!a) return
    const go = (path: string, query: Record<string, string>) => void router.push({ path, query })
    switch (a.verb) {
      case 'scan':
        return go('/links', { link: a.subject, do: 'scan' })
      case 'scan-settings':
        return go('/links', { link: a.subject, do: 'settings' })
      case 'probe':
        return go('/stations', { station: a.subject, do: 'probe' })
      case 'traffic':
        return go('/traffic', { link: a.subject })
      case 'frames':
        return go('/traffic', { station: a.subject })
      case 'wrong-frames':
        return go('/traffic', { station: a.subject, only: 'wrong' })
      case 'refresh':
        return told(() => api.refresh(a.subject).then(() => say('findings.refreshed', { name: a.subject })))
      case 'set-time':
        return told(() => api.ask(a.subject, 'set-time').then((r) => r.message))
      case 'ports': {
        const { ports } = await api.ports()
        return void ElMessageBox.alert(ports.join('\n') || say('findings.no-port'), say('findings.ports'))
      }
      case 'explain': {
        const meaning = (await api.explanations()).reasons.find((r) => r.reason === a.subject)
        return void ElMessageBox.alert([meaning?.text, meaning?.try].filter(Boolean).join('. '), a.subject)
      }
    }
  }
  return { change, open, act }
}
