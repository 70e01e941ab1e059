import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

/** One name of the page's query as a value that can be read and set: the address bar names what is on screen. */
export function useQuery(name: string) {
  const route = useRoute()
  const router = useRouter()
  return computed<string>({
    get: () => (typeof route.query[name] === 'string' ? route.query[name] : ''),
    set: (value) => {
      const query = { ...route.query, [name]: value }
      if (!value) delete query[name]
      void router.replace({ query })
    },
  })
}
