import { onScopeDispose, type Ref } from 'vue'

/** The key / puts the cursor into the search box. */
export function useSearchKey(box: Ref<{ focus: () => void } | undefined>) {
  function key(event: KeyboardEvent) {
    const target = event.target as HTMLElement
    if (event.key !== '/' || target.closest('input, textarea')) return
    event.preventDefault()
    box.value?.focus()
  }
  addEventListener('keydown', key)
  onScopeDispose(() => removeEventListener('keydown', key))
}
