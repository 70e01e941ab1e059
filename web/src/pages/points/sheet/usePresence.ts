import { computed, onScopeDispose, watch, type Ref } from 'vue'

import { useTogether } from '../../../composables/useTogether'

/** Says which point is typed into, and who else types into which. */
export function usePresence(mine: Ref<string | undefined>, moved: () => void) {
  const together = useTogether()
  watch(mine, (tag) => together.edits(tag ? 'point' : undefined, tag), { immediate: true })
  onScopeDispose(() => together.edits())
  const others = computed(() => together.others.flatMap((p) => (p.editing?.kind === 'point' ? [{ who: p.name, tag: p.editing.name }] : [])))
  watch(() => JSON.stringify(others.value), moved)
  /** Who else types into a point. */
  const at = (tag: string | undefined) => (tag ? others.value.filter((o) => o.tag === tag).map((o) => o.who) : [])
  return { others, at }
}
