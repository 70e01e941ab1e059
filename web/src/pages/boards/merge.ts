import { place, type Display } from './display'

/** What two people did to the displays of a board, put together. */
export interface Merged {
  displays: Display[]
  /** What both changed, in different ways: what is mine was kept. */
  conflicts: { display: string; field: string; theirs: unknown; mine: unknown }[]
}

const same = (a: unknown, b: unknown) => JSON.stringify(a ?? null) === JSON.stringify(b ?? null)
const alike = (a: Display, b: Display) => [...new Set([...Object.keys(a), ...Object.keys(b)])].every((k) => same(a[k as keyof Display], b[k as keyof Display]))
/** What a display is called where it is told of. */
export const called = (d: Display) => d.tag ?? d.tags?.[0] ?? d.text?.slice(0, 30) ?? d.show

/** For each display of before, the one in now that it became: the same one, otherwise one that shows the same, otherwise one at the same place. */
function became(before: Display[], now: Display[]): (Display | undefined)[] {
  const free = new Set(now)
  const found: (Display | undefined)[] = before.map(() => undefined)
  const fits: ((a: Display, b: Display) => boolean)[] = [
    alike,
    (a, b) => a.show === b.show && same(a.tag, b.tag) && same(a.tags, b.tags) && same(a.text, b.text),
    (a, b) => Boolean(a.tag) && same(a.tag, b.tag),
    (a, b) => a.show === b.show && a.x === b.x && a.y === b.y,
  ]
  for (const fit of fits) {
    before.forEach((d, i) => {
      if (found[i]) return
      const it = [...free].find((f) => fit(d, f))
      if (!it) return
      found[i] = it
      free.delete(it)
    })
  }
  return found
}

/** Puts together what I and somebody else made of the displays of a board. */
export function merge(before: Display[], theirs: Display[], mine: Display[]): Merged {
  const conflicts: Merged['conflicts'] = []
  const list: Display[] = []
  const their = became(before, theirs)
  const my = became(before, mine)
  before.forEach((was, i) => {
    const [a, b] = [their[i], my[i]]
    if (!a && !b) return
    if (!a || !b) {
      const left = (a ?? b)!
      if (alike(left, was)) return // one took it away, and the other left it as it was
      conflicts.push({ display: called(was), field: '', theirs: a, mine: b })
      list.push(left) // what somebody still works on is not lost
      return
    }
    const d: Record<string, unknown> = {}
    const [w, x, y] = [was, a, b] as unknown as Record<string, unknown>[]
    for (const field of new Set([...Object.keys(x!), ...Object.keys(y!)])) {
      const [before, theirs, mine] = [w![field], x![field], y![field]]
      const value = same(mine, before) ? theirs : mine
      if (!same(mine, before) && !same(theirs, before) && !same(mine, theirs)) conflicts.push({ display: called(was), field, theirs, mine })
      if (value !== undefined) d[field] = value
    }
    list.push(d as unknown as Display)
  })
  const added = (all: Display[], kept: (Display | undefined)[]) => all.filter((d) => !kept.includes(d))
  for (const d of added(theirs, their)) list.push(d)
  for (const d of added(mine, my)) {
    if (list.some((other) => alike(other, d))) continue // both added the same
    const taken = list.some((o) => d.x < o.x + o.w && o.x < d.x + d.w && d.y < o.y + o.h && o.y < d.y + d.h)
    list.push(taken ? { ...d, ...place(list, d.w, d.h, d.x, d.y) } : d)
  }
  return { displays: list, conflicts }
}
