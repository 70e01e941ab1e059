import { nextTick, watch } from 'vue'
import { useRoute } from 'vue-router'

/** Brings the field of a form to the eye and the keyboard; opens the part it is folded away in. False when no form shows it. */
export function reveal(field: string): boolean {
  const item = document.querySelector<HTMLElement>(`[data-field="${CSS.escape(field)}"]`)
  if (!item) return false
  const part = item.closest('.el-collapse-item:not(.is-active)')
  part?.querySelector<HTMLElement>('.el-collapse-item__header')?.click()
  void nextTick(() => {
    item.scrollIntoView({ block: 'center' })
    item.querySelector<HTMLElement>('input, textarea, button')?.focus({ preventScroll: true })
  })
  return true
}

/** How often a form that is still being drawn is looked for, once a frame. */
const mostFrames = 120

/** Goes to the field that the address names, for as long as the form may need to be drawn. */
export function useField() {
  const route = useRoute()
  watch(
    () => route.query.field,
    (field) => {
      if (typeof field !== 'string' || !field) return
      let frames = 0
      const look = () => {
        const moving = document.querySelector('[class*="-enter-active"]') !== null // a drawer that opens takes the focus
        if ((moving || !reveal(field)) && ++frames < mostFrames) requestAnimationFrame(look)
      }
      requestAnimationFrame(look)
    },
    { immediate: true },
  )
}
