import { onScopeDispose, ref } from 'vue'

/** Calls f at once and then again so many milliseconds after it has ended, while the component lives. */
export function useEvery(milliseconds: number, f: () => Promise<void> | void) {
  let timer: ReturnType<typeof setTimeout> | undefined
  let ended = false
  async function turn() {
    await f()
    if (!ended) timer = setTimeout(turn, milliseconds)
  }
  onScopeDispose(() => {
    ended = true
    clearTimeout(timer)
  })
  void turn()
}

/** The time, renewed every half second, for ages. */
export function useNow() {
  const now = ref(Date.now())
  useEvery(500, () => {
    now.value = Date.now()
  })
  return now
}
