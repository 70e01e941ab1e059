import type { Component } from 'vue'

import ModbusFields from './ModbusFields.vue'
import OutstationFields from './OutstationFields.vue'

/** The form of what only the stations of a protocol have. A protocol is one line here. */
export const forms: Record<string, Component> = { modbus: ModbusFields, dnp3: OutstationFields }
