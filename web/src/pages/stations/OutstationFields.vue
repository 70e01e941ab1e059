<script setup lang="ts">
import { computed } from 'vue'

import type { Link, Station } from '../../api/client'

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
      <el-form-item label="Outstation, its link address" :error="faults.outstation"><el-input-number v-model="form.outstation" :min="0" :max="65519" :controls="false" name="outstation" /></el-form-item>
      <el-form-item label="Master, ours" :error="faults.master"><el-input-number v-model="form.master" :min="0" :max="65519" :controls="false" placeholder="1" name="master" /></el-form-item>
    </div>
    <div class="form-row">
      <el-form-item label="All values are read every" :error="faults.integrity_poll"><el-input v-model="form.integrity_poll" name="integrity_poll" placeholder="1h" /></el-form-item>
      <el-form-item label="Events are asked for every" :error="faults.event_poll"><el-input v-model="form.event_poll" name="event_poll" placeholder="5s" /></el-form-item>
    </div>
    <el-form-item :error="faults.unsolicited || faults.unsolicited_classes">
      <el-checkbox v-model="form.unsolicited" name="unsolicited">it reports events by itself, as they happen</el-checkbox>
      <el-select v-if="form.unsolicited" v-model="form.unsolicited_classes" multiple placeholder="of classes 1, 2 and 3" class="classes"><el-option v-for="c in classes" :key="c" :value="c" :label="`class ${c}`" /></el-select>
    </el-form-item>
    <el-form-item label="Its clock is set when it asks for that" :error="faults.time_sync">
      <el-select v-model="form.time_sync" clearable placeholder="none: never" data-test="time_sync">
        <el-option value="lan" label="lan: the time is recorded, then written" />
        <el-option value="serial" label="serial: the delay is measured, then the time written" />
      </el-select>
    </el-form-item>
    <el-collapse>
      <el-collapse-item title="Classes and data link layer" name="more">
        <div class="form-row">
          <el-form-item label="Class 1 every" :error="faults.class1_poll"><el-input v-model="form.class1_poll" :placeholder="form.event_poll || '5s'" /></el-form-item>
          <el-form-item label="Class 2 every" :error="faults.class2_poll"><el-input v-model="form.class2_poll" :placeholder="form.event_poll || '5s'" /></el-form-item>
          <el-form-item label="Class 3 every" :error="faults.class3_poll"><el-input v-model="form.class3_poll" :placeholder="form.event_poll || '5s'" /></el-form-item>
        </div>
        <div class="form-row">
          <el-form-item label="Link status after quiet" :error="faults.liveness"><el-input v-model="form.liveness" placeholder="15s" /></el-form-item>
          <el-form-item label="Time it needs after connecting" :error="faults.after_connect"><el-input v-model="form.after_connect" placeholder="0s" /></el-form-item>
        </div>
        <el-form-item :error="faults.link_reset || faults.link_confirm">
          <el-checkbox v-model="form.link_reset">its link states are reset after connecting</el-checkbox>
          <el-checkbox v-model="form.link_confirm">its data link layer acknowledges every frame{{ serial ? '' : ' (seldom wanted on a network)' }}</el-checkbox>
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
