<script setup lang="ts">
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'

import type { Link, Station } from '../../api/client'

const { t } = useI18n()

// What a DNP3 station has; form is the station that is being edited.
defineOptions({ inheritAttrs: false })
const props = defineProps<{ form: Station; faults: Record<string, string>; link?: Link }>()
const serial = computed(() => props.link?.transport === 'serial')
const form = computed(() => props.form)
const classes = [1, 2, 3]
</script>

<template>
  <div>
    <div class="form-row">
      <el-form-item :label="t('stations.outstation-its-link-address')" :error="faults.outstation" data-field="outstation"><el-input-number v-model="form.outstation" :min="0" :max="65519" :controls="false" name="outstation" /></el-form-item>
      <el-form-item :label="t('stations.master-ours')" :error="faults.master" data-field="master"><el-input-number v-model="form.master" :min="0" :max="65519" :controls="false" placeholder="1" name="master" /></el-form-item>
    </div>
    <div class="form-row">
      <el-form-item :label="t('stations.all-values-are-read-every')" :error="faults.integrity_poll" data-field="integrity_poll"><el-input v-model="form.integrity_poll" name="integrity_poll" placeholder="1h" /></el-form-item>
      <el-form-item :label="t('stations.events-are-asked-for-every')" :error="faults.event_poll" data-field="event_poll"><el-input v-model="form.event_poll" name="event_poll" placeholder="5s" /></el-form-item>
    </div>
    <el-form-item :error="faults.unsolicited || faults.unsolicited_classes" data-field="unsolicited">
      <el-checkbox v-model="form.unsolicited" name="unsolicited">{{ t('stations.it-reports-events-by-itself-as') }}</el-checkbox>
      <el-select v-if="form.unsolicited" v-model="form.unsolicited_classes" multiple :placeholder="t('stations.of-classes-1-2-and-3')" class="classes"><el-option v-for="c in classes" :key="c" :value="c" :label="t('stations.class-number', { c })" /></el-select>
    </el-form-item>
    <el-form-item :label="t('stations.its-clock-is-set-when-it')" :error="faults.time_sync" data-field="time_sync">
      <el-select v-model="form.time_sync" clearable :placeholder="t('stations.none-never')" data-test="time_sync">
        <el-option value="lan" :label="t('stations.lan-the-time-is-recorded')" />
        <el-option value="serial" :label="t('stations.serial-the-delay-is-measured-then')" />
      </el-select>
    </el-form-item>
    <el-collapse>
      <el-collapse-item :title="t('stations.classes-and-data-link-layer')" name="more">
        <div class="form-row">
          <el-form-item :label="t('stations.class-1-every')" :error="faults.class1_poll"><el-input v-model="form.class1_poll" :placeholder="form.event_poll || '5s'" /></el-form-item>
          <el-form-item :label="t('stations.class-2-every')" :error="faults.class2_poll"><el-input v-model="form.class2_poll" :placeholder="form.event_poll || '5s'" /></el-form-item>
          <el-form-item :label="t('stations.class-3-every')" :error="faults.class3_poll"><el-input v-model="form.class3_poll" :placeholder="form.event_poll || '5s'" /></el-form-item>
        </div>
        <div class="form-row">
          <el-form-item :label="t('stations.link-status-after-quiet')" :error="faults.liveness" data-field="liveness"><el-input v-model="form.liveness" placeholder="15s" /></el-form-item>
          <el-form-item :label="t('stations.time-it-needs-after-connecting')" :error="faults.after_connect" data-field="after_connect"><el-input v-model="form.after_connect" placeholder="0s" /></el-form-item>
        </div>
        <el-form-item :error="faults.link_reset || faults.link_confirm">
          <el-checkbox v-model="form.link_reset">{{ t('stations.its-link-states-are-reset-after') }}</el-checkbox>
          <el-checkbox v-model="form.link_confirm">{{ t(serial ? 'stations.link-confirm' : 'stations.link-confirm-on-network') }}</el-checkbox>
        </el-form-item>
      </el-collapse-item>
    </el-collapse>
  </div>
</template>

<style scoped>
.classes {
  margin-left: 14px;
  width: 190px;
}
</style>
