<script setup lang="ts" generic="T extends { name?: string; tag?: string }">
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'
import { useRoute, useRouter } from 'vue-router'

import type { Kind } from '../api/client'
import { useTogether } from '../composables/useTogether'
import EntityAside from './EntityAside.vue'

// The form of the entity that the address names (link=north), or of a new one (new=link), at the side of its page.
const props = defineProps<{ kind: Kind; all: T[]; loaded: boolean; width: number }>()
defineSlots<{ default(props: { entity: T | undefined; close: () => void }): unknown }>()
const { t } = useI18n()
const route = useRoute()
const router = useRouter()
const together = useTogether()

const chosen = computed(() => route.query[props.kind] as string | undefined)
const entity = computed(() => (chosen.value ? props.all.find((e) => (e.tag ?? e.name) === chosen.value) : undefined))
const adding = computed(() => route.query.new === props.kind)
const missing = computed(() => Boolean(chosen.value) && props.loaded && !entity.value)

function close() {
  const query = { ...route.query }
  for (const name of [props.kind, 'new', 'field']) delete query[name]
  void router.replace({ query })
}
</script>

<template>
  <el-alert v-if="missing" :title="t('drawer.missing', { kind: t(`kinds.${kind}`), name: chosen ?? '' })" type="warning" show-icon data-test="missing" @close="close" />
  <el-drawer
    :model-value="Boolean(entity) || adding"
    :title="entity ? t(`drawer.of.${kind}`, { name: chosen ?? '' }) : t(`drawer.new.${kind}`)"
    :size="`min(${width}px, 96vw)`"
    destroy-on-close
    @close="close"
  >
    <template v-if="entity && chosen">
      <el-alert v-if="together.editing(kind, chosen).length > 0" :title="t('people.edits-too', { who: together.editing(kind, chosen).join(', ') })" type="warning" :closable="false" show-icon class="beside" data-test="edits-too" />
      <el-alert v-if="together.freshOf(kind, chosen)" :title="t('people.just-changed', { who: together.freshOf(kind, chosen) ?? '' })" type="warning" :closable="false" show-icon class="beside" data-test="just-changed" />
    </template>
    <slot :entity="entity" :close="close" />
    <EntityAside v-if="entity && chosen" :kind="kind" :name="chosen" />
  </el-drawer>
</template>

<style scoped>
.beside {
  margin-bottom: 12px;
}
</style>
