import { watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

/** Does once what the address asks a page for (do=scan), and takes it out of the address, so that going back does not repeat it. */
export function useAsked(acts: Record<string, () => void>) {
  const route = useRoute()
  const router = useRouter()
  watch(
    () => route.query.do,
    (asked) => {
      if (typeof asked !== 'string' || !acts[asked]) return
      acts[asked]()
      const query = { ...route.query }
      delete query.do
      void router.replace({ query })
    },
    { immediate: true },
  )
}
