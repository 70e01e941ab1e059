import { defineStore } from 'pinia'
import { computed, ref, watch } from 'vue'

import { api, type Alarm } from '../api/client'
import { i18n } from '../language'
import { useEvery } from './useEvery'
import { useTogether } from './useTogether'

/** The alarms that stand, for every page: how many, and a sound and a notice for a new one where that is asked for. */
export const useAlarms = defineStore('alarms', () => {
  const items = ref<Alarm[]>([])
  const counts = ref({ active: 0, unacknowledged: 0, shelved: 0, urgent: 0 })
  const loaded = ref(false)
  const sound = ref(localStorage.getItem('alarm-sound') === 'on')
  const notices = ref(localStorage.getItem('alarm-notices') === 'on' && 'Notification' in window && Notification.permission === 'granted')
  watch(sound, (on) => localStorage.setItem('alarm-sound', on ? 'on' : 'off'))
  watch(notices, (on) => localStorage.setItem('alarm-notices', on ? 'on' : 'off'))

  const key = (a: Alarm) => `${a.tag} ${a.limit} ${a.since}`
  let known = new Set<string>()

  async function load() {
    try {
      const all = await api.alarms({ limit: 1000 })
      const fresh = all.items.filter((a) => a.state === 'active' && !known.has(key(a)))
      known = new Set(all.items.map(key))
      items.value = all.items
      counts.value = all.counts
      if (loaded.value && fresh.length > 0) tell(fresh)
      loaded.value = true
    } catch {
      // the frame says that the service does not answer
    }
  }
  // A page in the background is seldom let ask by itself; it is told.
  useEvery(5000, load)
  useTogether().followAlarms(() => void load())

  function tell(fresh: Alarm[]) {
    if (sound.value) ring(Math.min(...fresh.map((a) => a.severity)))
    if (!notices.value) return
    for (const a of fresh.slice(0, 3)) new Notification(`${a.tag}: ${i18n.global.t(`alarms.limits.${a.limit}`)}`, { body: `${a.text} (${a.bound_text ?? ''})`, tag: key(a) })
  }

  /** Two tones; the more urgent, the higher. */
  function ring(severity: number) {
    const audio = new AudioContext()
    const tone = [880, 740, 587, 494][severity - 1] ?? 587
    for (const [i, pitch] of [tone, tone * 0.75].entries()) {
      const source = audio.createOscillator()
      const gain = audio.createGain()
      source.frequency.value = pitch
      gain.gain.setValueAtTime(0.0001, audio.currentTime + i * 0.28)
      gain.gain.exponentialRampToValueAtTime(0.2, audio.currentTime + i * 0.28 + 0.03)
      gain.gain.exponentialRampToValueAtTime(0.0001, audio.currentTime + i * 0.28 + 0.26)
      source.connect(gain).connect(audio.destination)
      source.start(audio.currentTime + i * 0.28)
      source.stop(audio.currentTime + i * 0.28 + 0.27)
    }
    setTimeout(() => void audio.close(), 1200)
  }

  async function wantNotices(on: boolean) {
    notices.value = on && 'Notification' in window && (await Notification.requestPermission()) === 'granted'
    return notices.value === on
  }

  return { items, counts, loaded, sound, notices, load, ring, wantNotices, standing: computed(() => counts.value.active + counts.value.unacknowledged > 0) }
})
