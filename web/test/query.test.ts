import { createApp, h, nextTick, type WritableComputedRef } from 'vue'
import { createMemoryHistory, createRouter, RouterView } from 'vue-router'
import { expect, it } from 'vitest'

import { useQuery } from '../src/composables/useQuery'

// Vue makes no document of this: the page draws nothing, and is set up by hand.
async function page(names: string[]) {
  const values: Record<string, WritableComputedRef<string>> = {}
  const router = createRouter({ history: createMemoryHistory(), routes: [{ path: '/boards', component: { render: () => h('div') } }] })
  await router.push('/boards?other=stays')
  const app = createApp({ render: () => h(RouterView) })
  app.use(router)
  app.runWithContext(() => {
    for (const name of names) values[name] = useQuery(name)
  })
  return { router, values }
}

it('keeps each of several names that are set at once', async () => {
  const { router, values } = await page(['board', 'edit'])
  values.board!.value = 'pump'
  values.edit!.value = 'yes'
  await new Promise((done) => setTimeout(done))
  expect(router.currentRoute.value.query).toEqual({ other: 'stays', board: 'pump', edit: 'yes' })
  values.edit!.value = ''
  values.board!.value = 'gate'
  await new Promise((done) => setTimeout(done))
  expect(router.currentRoute.value.query).toEqual({ other: 'stays', board: 'gate' })
  await router.push('/boards?board=elsewhere')
  values.edit!.value = 'yes'
  await nextTick()
  await new Promise((done) => setTimeout(done))
  expect(router.currentRoute.value.query).toEqual({ board: 'elsewhere', edit: 'yes' })
})
