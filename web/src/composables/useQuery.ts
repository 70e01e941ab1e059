import { computed } from 'vue'
import { useRoute, useRouter, type LocationQuery, type Router } from 'vue-router'

/** What is on its way into the address bar, by router: a second name that is set before the first is there must not undo it. */
const coming = new WeakMap<Router, { path: string; query: LocationQuery }>()

/** One name of the page's query as a value that can be read and set: the address bar names what is on screen. */
export function useQuery(name: string) {
  const route = useRoute()
  const router = useRouter()
  return computed<string>({
    get: () => (typeof route.query[name] === 'string' ? route.query[name] : ''),
    set: (value) => {
      const before = coming.get(router)
      const query = { ...(before?.path === route.path ? before.query : route.query), [name]: value }
      if (!value) delete query[name]
      const next = { path: route.path, query }
      coming.set(router, next)
      void router.replace({ query }).finally(() => {
        if (coming.get(router) === next) coming.delete(router)
      })
    },
  })
}
