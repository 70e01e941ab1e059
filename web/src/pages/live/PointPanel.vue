<script setup lang="ts">
import { Close } from '@element-plus/icons-vue'
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'

import { api, message, type Point, type Reading } from '../../api/client'
import AlarmMark from '../../components/AlarmMark.vue'
import FindingList from '../../components/FindingList.vue'
import NoteMark from '../../components/NoteMark.vue'
import QualityMark from '../../components/QualityMark.vue'
import SmallTrend from '../../components/SmallTrend.vue'
import { useAlarms } from '../../composables/useAlarms'
import { useMe } from '../../composables/useMe'
import { raw, scalingText } from '../../format'
import { age, time } from '../../time'
import LensTable from './LensTable.vue'
import WriteValue from './WriteValue.vue'

const { t } = useI18n()
const who = useMe()

const props = defineProps<{ tag: string; reading?: Reading; now: number }>()
const emit = defineEmits<{ close: [] }>()

const alarms = useAlarms()
const standing = computed(() => alarms.items.filter((a) => a.tag === props.tag))
const point = ref<Point>()
const problem = ref('')

async function load() {
  try {
    point.value = await api.point(props.tag)
    problem.value = ''
  } catch (error) {
    problem.value = message(error)
  }
}
void load()
</script>

<template>
  <aside>
    <div class="head">
      <h2>{{ tag }}<NoteMark kind="point" :name="tag" /></h2>
      <el-button text circle :icon="Close" :aria-label="t('live.close')" @click="emit('close')" />
    </div>
    <el-alert v-if="problem" :title="problem" type="error" :closable="false" />
    <template v-if="reading">
      <div class="value number" :class="{ quiet: reading.quality === 'bad' }" data-test="value">
        {{ reading.text || '–' }} <small>{{ reading.unit }}</small>
      </div>
      <div v-if="reading.quality === 'bad' && reading.good_time" class="quiet">{{ t('live.good-value', { age: age(reading.good_time, now) }) }}</div>
      <QualityMark :quality="reading.quality" :reason="reading.reason" data-test="quality" />
      <span v-if="reading.explanation" class="quiet">: {{ reading.explanation }}</span>
      <div v-for="a in standing" :key="a.limit" class="standing"><AlarmMark :state="a.state" :severity="a.severity" :unknown="a.unknown" /> <router-link :to="{ path: '/alarms', query: { search: tag } }">{{ t(`alarms.limits.${a.limit}`) }} {{ a.bound_text }}</router-link></div>
      <SmallTrend :key="tag" :tags="[tag]" class="went" />
      <dl>
        <dt>{{ t('live.raw') }}</dt>
        <dd class="mono">{{ raw(reading) || '–' }}</dd>
        <template v-if="reading.time"><dt>{{ t(reading.quality === 'bad' ? 'live.bad-since' : 'live.read-at') }}</dt><dd>{{ time(reading.time) }}</dd></template>
        <template v-if="reading.source_time"><dt>{{ t('live.device-time') }}</dt><dd>{{ time(reading.source_time) }}</dd></template>
        <template v-if="point">
          <dt>{{ t('live.address') }}</dt>
          <dd><span class="mono">{{ point.address }}</span> at {{ point.station }}<br /><span class="quiet">{{ point.meaning }}</span></dd>
          <dt>{{ t('live.read-as') }}</dt>
          <dd>{{ point.type }} {{ point.order ?? '(order of the station)' }} {{ scalingText(point.scaling) }}</dd>
        </template>
      </dl>
    </template>
    <FindingList :subject="tag" />
    <template v-if="point">
      <WriteValue v-if="point.writable && who.may('operator')" :point="point" />
      <LensTable v-if="/^(hr|ir):/.test(point.canonical)" :point="point" @taken="load" />
      <router-link :to="{ path: '/points', query: { point: point.tag } }"><el-button size="small">{{ t('live.edit-the-point') }}</el-button></router-link>
    </template>
  </aside>
</template>

<style scoped>
.head {
  display: flex;
  align-items: flex-start;
  justify-content: space-between;
  gap: 8px;
}
h2 {
  margin: 0;
  font-size: 16px;
  overflow-wrap: anywhere;
}
.value {
  font-size: 30px;
  font-weight: 600;
  margin: 8px 0 2px;
  white-space: normal;
  overflow-wrap: anywhere;
}
.standing a {
  color: inherit;
}
.went {
  margin-top: 10px;
}
.value small {
  font-size: 16px;
  font-weight: 400;
}
dl {
  display: grid;
  grid-template-columns: 90px 1fr;
  gap: 5px 10px;
  margin: 12px 0;
}
dt {
  color: var(--el-text-color-secondary);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
</style>
