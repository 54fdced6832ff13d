<script setup lang="ts">
import { ref } from 'vue'

import { api, ApiError, type Dialect } from '../api'
import ProblemNote from '../parts/ProblemNote.vue'

// The dialects, their texts, and a place to write one.
defineProps<{ dialects: Dialect[]; may: boolean }>()
const emit = defineEmits<{ changed: [] }>()
const open = ref(false)
const name = ref('')
const text = ref('')
const error = ref<unknown>(null)
const busy = ref(false)
const findings = () => (error.value instanceof ApiError ? (error.value.problem.findings ?? []) : [])

async function show(which: string) {
  error.value = null
  name.value = which
  text.value = ''
  open.value = true
  try {
    text.value = (await api.dialect(which)).text ?? ''
  } catch (e) {
    error.value = e
  }
}
function write() {
  name.value = ''
  error.value = null
  text.value = [
    'dialect: my-instrument',
    'title: My instrument',
    'identity: "^Maker,Model,"',
    'seats: [source]',
    'set:',
    '  volts: {message: "VOLT {value}", ask: "VOLT?"}',
    '  amps: {message: "CURR {value}", ask: "CURR?"}',
    '  output: {"on": "OUTP ON", "off": "OUTP OFF"}',
    'read: {message: "MEAS:VOLT?", gives: [volts]}',
    'confirm: {message: "OUTP?", "on": "1", "off": "0"}',
    '',
  ].join('\n')
  open.value = true
}
async function push() {
  busy.value = true
  error.value = null
  try {
    await api.pushDialect(text.value)
    open.value = false
    emit('changed')
  } catch (e) {
    error.value = e
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <div class="panel scroll">
    <div class="head">
      <h2>Dialects</h2>
      <span class="grow" /><v-btn v-if="may" size="small" data-test="new-dialect" @click="write">Write one</v-btn>
    </div>
    <table class="plain">
      <thead>
        <tr>
          <th>dialect</th>
          <th>title</th>
          <th>speaks</th>
          <th class="right">channels</th>
          <th>for</th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="d in dialects"
          :key="d.name"
          class="link"
          tabindex="0"
          @click="show(d.name)"
          @keydown.enter="show(d.name)"
        >
          <td>
            <strong>{{ d.name }}</strong>
          </td>
          <td>{{ d.title }}</td>
          <td class="muted">{{ d.protocol }}</td>
          <td class="right">{{ d.channels }}</td>
          <td class="muted">{{ d.seats.join(', ') }}</td>
        </tr>
      </tbody>
    </table>
    <v-dialog v-model="open" max-width="860">
      <v-card class="pa-5">
        <h2>{{ name || 'A new dialect' }}</h2>
        <textarea v-model="text" spellcheck="false" :readonly="!may" rows="22" aria-label="Text of the dialect" />
        <ul v-if="findings().length" class="findings">
          <li v-for="(f, i) in findings()" :key="i">
            <strong>line {{ f.line }}</strong
            >, column {{ f.column }}: {{ f.message }}
          </li>
        </ul>
        <ProblemNote v-else class="mt-3" :error="error" />
        <div class="d-flex ga-3 mt-4 justify-end">
          <span class="muted">Try it on the instrument with: usher dialect try FILE --address …</span
          ><span class="grow" />
          <v-btn @click="open = false">Close</v-btn>
          <v-btn v-if="may" variant="flat" color="primary" :loading="busy" data-test="push-dialect" @click="push"
            >Check and store</v-btn
          >
        </div>
      </v-card>
    </v-dialog>
  </div>
</template>

<style scoped>
.head {
  display: flex;
  align-items: baseline;
}
textarea {
  width: 100%;
  font-family: ui-monospace, monospace;
  font-size: 13px;
  line-height: 1.5;
  padding: 12px;
  border: 1px solid var(--line);
  border-radius: 8px;
  background: var(--paper);
  color: var(--ink);
  resize: vertical;
  white-space: pre;
}
.findings {
  color: var(--fail);
  padding-left: 18px;
  margin: 10px 0 0;
}
</style>
