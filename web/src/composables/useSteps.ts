import { ElMessage, ElMessageBox } from 'element-plus'
import { useRouter } from 'vue-router'

import { api, message, type Finding, type FindingStep } from '../api/client'
import { say } from '../language'

/** How many of the changes of a step are shown before it is done. */
const shown = 8

function fields(of: Record<string, unknown>): string {
  return Object.entries(of)
    .map(([field, value]) => `${field}: ${typeof value === 'object' ? JSON.stringify(value) : String(value)}`)
    .join(', ')
}

/** Carries out the steps of findings: changes of settings after they were shown, and what is asked of the service. */
export function useSteps(after: () => void | Promise<void>) {
  const router = useRouter()

  /** Takes a step of a finding that is a change of settings, shown before it is done; all of its changes are made together. */
  async function change(finding: Finding, index: number) {
    const step = finding.next[index]
    const all = step?.changes ?? []
    if (!step || all.length === 0) return
    const what = all.slice(0, shown).map((c) => say('findings.confirm-one', { kind: c.kind, name: c.name, what: fields(c.fields) }))
    if (all.length > shown) what.push(say('findings.confirm-more', { n: all.length - shown }))
    try {
      await ElMessageBox.confirm(say('findings.confirm', { what: what.join('\n') }), step.text, { confirmButtonText: say('findings.change'), cancelButtonText: say('findings.leave') })
    } catch {
      return
    }
    try {
      await api.take(finding.code, finding.subject, index + 1)
      ElMessage.success(all.length === 1 ? say('findings.changed', { name: all[0]!.name }) : say('findings.changed-all', { n: all.length }))
      await after()
    } catch (error) {
      ElMessage.error(message(error))
    }
  }

  /** Takes back a step that was taken, which shows at once. */
  const takeBack = (id: number) => told(() => api.undo(id).then((sum) => say('changes.n-undone', { n: sum.changes.length })))

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
  return { change, open, act, takeBack }
}
