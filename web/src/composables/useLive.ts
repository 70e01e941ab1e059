import { onScopeDispose, ref, shallowRef, triggerRef, watch, type Ref } from 'vue'

import type { LiveMessage, Reading } from '../api/client'

/** How often what came is shown, in milliseconds. */
const showEvery = 100

/** Readings of the tags or patterns in `tags`, kept up to date while the component lives. */
export function useLive(tags: Ref<string[]>) {
  const readings = shallowRef(new Map<string, Reading>())
  const connected = ref(false)
  let socket: WebSocket | undefined
  let retry: ReturnType<typeof setTimeout> | undefined
  let ended = false
  let shown: ReturnType<typeof setTimeout> | undefined
  /** Shows what came: messages come faster than anybody looks. */
  function show() {
    shown = undefined
    triggerRef(readings)
  }

  function open() {
    const asked = tags.value
    const query = asked.map((t) => `tag=${encodeURIComponent(t)}`).join('&')
    socket = new WebSocket(`${location.origin.replace(/^http/, 'ws')}/api/v1/live?${query}`)
    socket.onopen = () => {
      connected.value = true
      readings.value = new Map()
      if (tags.value !== asked) socket?.send(JSON.stringify({ tags: tags.value })) // others were wanted while it was opened
    }
    socket.onmessage = (event: MessageEvent<string>) => {
      const message = JSON.parse(event.data) as LiveMessage
      for (const r of message.readings ?? []) readings.value.set(r.tag, r)
      for (const tag of message.removed ?? []) readings.value.delete(tag)
      shown ??= setTimeout(show, showEvery)
    }
    socket.onclose = () => {
      connected.value = false
      if (!ended) retry = setTimeout(open, 1000)
    }
  }

  watch(tags, (now, before) => {
    if (now.join('\n') === before.join('\n')) return
    readings.value = new Map()
    if (socket?.readyState === WebSocket.OPEN) socket.send(JSON.stringify({ tags: now }))
  })
  // A page that is left may be kept by the browser, and is to cost nobody anything meanwhile; it may come back as it was.
  const leave = () => {
    if (ended) return
    ended = true
    socket?.close()
    window.addEventListener('pageshow', comeBack, { once: true })
  }
  const comeBack = () => {
    ended = false
    open()
  }
  window.addEventListener('pagehide', leave)
  onScopeDispose(() => {
    window.removeEventListener('pagehide', leave)
    window.removeEventListener('pageshow', comeBack)
    ended = true
    clearTimeout(retry)
    clearTimeout(shown)
    socket?.close()
  })
  open()
  return { readings, connected }
}
