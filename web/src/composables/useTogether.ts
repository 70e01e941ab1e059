import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'

import { type Kind, type Person, type TogetherMessage } from '../api/client'
import { type ChangedTogether, News } from './news'

/** How long what somebody changed is marked. */
const markedFor = 6000

/** Who is here beside oneself, where they are, and what they finish. */
export const useTogether = defineStore('together', () => {
  const people = ref<Person[]>([])
  const marked = shallowRef(new Map<string, string>()) // who changed an entity a moment ago, by kind and name
  const mine = computed(() => people.value.find((p) => p.here)?.name)
  const others = computed(() => people.value.filter((p) => p.name !== mine.value)) // not what oneself has open elsewhere
  const followers = new Set<(news: News) => void>()
  const alarmed = new Set<() => void>()
  let socket: WebSocket | undefined
  let where: { page: string; editing?: { kind: Kind; name: string } } = { page: '/' }
  let ended = true
  let lost = false // the connection, and with it what was told meanwhile

  const say = () => {
    if (socket?.readyState === WebSocket.OPEN) socket.send(JSON.stringify(where))
  }
  /** Says which page is open. */
  function at(page: string) {
    where = { ...where, page }
    say()
  }
  /** Says what is edited, nothing when it is left out. */
  function edits(kind?: Kind, name?: string) {
    where = { page: where.page, editing: kind && name ? { kind, name } : undefined }
    say()
  }
  /** Calls f with what is changed by anybody, until the function that is returned is called. */
  function follow(f: (news: News) => void): () => void {
    followers.add(f)
    return () => followers.delete(f)
  }
  /** Calls f when something happens to alarms, until the function that is returned is called. */
  function followAlarms(f: () => void): () => void {
    alarmed.add(f)
    return () => alarmed.delete(f)
  }
  const key = (kind: string, name: string) => `${kind} ${name}`
  /** Who changed an entity a moment ago. */
  const freshOf = (kind: Kind, name: string) => marked.value.get(key(kind, name))
  /** Who else edits an entity now. */
  const editing = (kind: Kind, name: string) => others.value.filter((p) => p.editing?.kind === kind && p.editing.name === name).map((p) => p.name)

  function mark(set: ChangedTogether) {
    const next = new Map(marked.value)
    for (const c of set.changes) next.set(key(c.kind, c.name), set.who)
    marked.value = next
    setTimeout(() => {
      const left = new Map(marked.value)
      for (const c of set.changes) if (left.get(key(c.kind, c.name)) === set.who) left.delete(key(c.kind, c.name))
      marked.value = left
    }, markedFor)
  }

  function open() {
    ended = false
    socket = new WebSocket(`${location.origin.replace(/^http/, 'ws')}/api/v1/together`)
    socket.onopen = () => {
      say()
      if (lost) for (const f of followers) f(new News([], true))
      lost = false
    }
    socket.onmessage = (event: MessageEvent<string>) => {
      const message = JSON.parse(event.data) as TogetherMessage
      if (message.people) people.value = message.people
      if (message.alarms) for (const f of alarmed) f()
      const sets = message.changed ?? []
      if (sets.length === 0) return
      for (const f of followers) f(new News(sets))
      sets.forEach(mark)
    }
    socket.onclose = () => {
      people.value = []
      lost = true
      if (!ended) setTimeout(open, 2000)
    }
  }
  function start() {
    if (ended) open()
  }
  function stop() {
    ended = true
    socket?.close()
  }
  // A page that is left may be kept by the browser, and must not seem to be open; it may come back as it was.
  let left = false
  window.addEventListener('pagehide', () => {
    left = !ended
    stop()
  })
  window.addEventListener('pageshow', () => {
    if (left) start()
    left = false
  })
  return { people, others, marked, at, edits, follow, followAlarms, freshOf, editing, start, stop }
})
