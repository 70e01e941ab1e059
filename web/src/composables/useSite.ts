import { defineStore } from 'pinia'
import { reactive, ref, shallowRef } from 'vue'

import { useTogether } from './useTogether'
import { api, message, type Link, type Point, type Protocol, type Station, type Status } from '../api/client'

/** The site as the service has it. Each page asks for what it shows when it opens; saving asks again. */
export const useSite = defineStore('site', () => {
  const links = ref<Link[]>([])
  const protocols = shallowRef<Protocol[]>([])
  const stations = ref<Station[]>([])
  const points = shallowRef<Point[]>([])
  const status = ref<Status>({ links: [], stations: [] })
  const problem = ref('')
  const loading = ref(false)
  const loaded = reactive({ links: false, stations: false, points: false })

  async function guarded(f: () => Promise<void>) {
    try {
      await f()
      problem.value = ''
    } catch (error) {
      problem.value = message(error)
    }
  }

  const loadProtocols = () => guarded(async () => void (protocols.value = (await api.protocols()).items))
  /** What there is to know of a protocol; undefined until it is loaded. */
  const protocol = (name?: string) => protocols.value.find((p) => p.protocol === name)
  /** The protocol of a station, which is that of its link. */
  const protocolOf = (station?: Station) => protocol(links.value.find((l) => l.name === station?.link)?.protocol)
  void loadProtocols()

  const loadLinks = () =>
    guarded(async () => {
      links.value = await api.links()
      loaded.links = true
    })
  const loadStations = () =>
    guarded(async () => {
      stations.value = await api.stations()
      loaded.stations = true
    })
  const loadStatus = () => guarded(async () => void (status.value = await api.status()))
  async function loadPoints() {
    loading.value = true
    await guarded(async () => {
      points.value = await api.points()
      loaded.points = true
    })
    loading.value = false
  }

  // What anybody finishes is there at once, in what was loaded.
  useTogether().follow((news) => {
    if (loaded.links && news.touches('link')) void loadLinks()
    if (loaded.stations && news.touches('station')) void loadStations()
    if (loaded.points && news.touches('point')) void loadPoints()
  })

  return { protocols, protocol, protocolOf, links, stations, points, status, problem, loading, loaded, loadLinks, loadStations, loadPoints, loadStatus }
})
