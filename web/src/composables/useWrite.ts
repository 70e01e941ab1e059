import { ElMessageBox } from 'element-plus'
import { ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type Point, type WriteResult } from '../api/client'

/** Writing to a point: it is asked about once, with what will be sent and where; then what was read back is told. */
export function useWrite() {
  const { t } = useI18n()
  const busy = ref(false)
  const result = ref<WriteResult>()
  const problem = ref('')

  async function write(p: Point, value: unknown, shown = String(value)) {
    const unit = p.unit ? ` ${p.unit}` : ''
    try {
      await ElMessageBox.confirm(t('live.sent', { value: `${shown}${unit}`, address: p.canonical, station: p.station }), t('live.really', { tag: p.tag }), {
        confirmButtonText: t('live.write'),
        cancelButtonText: t('common.leave-it'),
        type: 'warning',
      })
    } catch {
      return
    }
    busy.value = true
    result.value = undefined
    problem.value = ''
    try {
      result.value = await api.write(p.tag, value)
    } catch (error) {
      problem.value = message(error)
    }
    busy.value = false
  }
  return { busy, result, problem, write }
}
