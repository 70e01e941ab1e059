import type { LinkStatus, StationStatus } from '../../api/client'

/** A line of the overview: a link, a station of it, or a link with the only station that it has. */
export interface Row {
  key: string
  link?: LinkStatus
  station?: StationStatus
  good: number
  uncertain: number
  bad: number
  /** How many lines below it can be shown. */
  below: number
  open: boolean
}

/** How bad a state is; more is worse. */
const weight: Record<string, number> = { down: 4, silent: 3, connecting: 2, paused: 1, unknown: 1 }

/** How bad something is, for the worst to stand first. */
export function badness(link: LinkStatus, stations: StationStatus[]): number {
  const states = [link.state, ...stations.map((s) => s.state)].map((s) => weight[s] ?? 0)
  const bad = stations.some((s) => s.points.bad > 0) ? 2 : stations.some((s) => s.points.uncertain > 0) ? 1 : 0
  return Math.max(...states) * 3 + bad
}

/**
 * The lines of the overview, the worst first. A link with one station takes one line; those of several can be opened, and are when
 * something about them is wrong, unless the person has decided otherwise.
 */
export function rows(links: LinkStatus[], stations: StationStatus[], filter: string, wrong: boolean, decided: Record<string, boolean>): Row[] {
  const of = new Map<string, StationStatus[]>()
  for (const s of stations) of.set(s.link, [...(of.get(s.link) ?? []), s])
  const words = filter.toLowerCase().split(/\s+/).filter(Boolean)
  const list = links
    .map((link) => ({ link, stations: of.get(link.name) ?? [], worst: 0 }))
    .map((l) => ({ ...l, worst: badness(l.link, l.stations) }))
    .filter((l) => words.every((w) => [l.link.name, l.link.state, ...l.stations.flatMap((s) => [s.name, s.state])].some((text) => text.toLowerCase().includes(w))))
    .filter((l) => !wrong || l.worst > 0)
    .sort((a, b) => b.worst - a.worst || a.link.name.localeCompare(b.link.name))
  return list.flatMap(({ link, stations, worst }): Row[] => {
    const sum = { good: 0, uncertain: 0, bad: 0 }
    for (const s of stations) {
      sum.good += s.points.good
      sum.uncertain += s.points.uncertain
      sum.bad += s.points.bad
    }
    if (stations.length === 1) return [{ key: link.name, link, station: stations[0], ...sum, below: 0, open: false }]
    const open = decided[link.name] ?? worst > 0
    const head: Row = { key: link.name, link, ...sum, below: stations.length, open }
    if (!open) return [head]
    return [head, ...stations.map((s): Row => ({ key: `${link.name}/${s.name}`, station: s, ...s.points, below: 0, open: false }))]
  })
}
