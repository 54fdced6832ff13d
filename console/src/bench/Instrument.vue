<script setup lang="ts">
import { computed, onUnmounted, reactive, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, type Dialect, type Exchange, type Instrument } from '../api'
import ConfirmButton from '../parts/ConfirmButton.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { useSession } from '../parts/session'

const props = defineProps<{ name: string }>()
const session = useSession()
const router = useRouter()
const instrument = ref<Instrument | null>(null)
const dialects = ref<Dialect[]>([])
const messages = ref<Exchange[]>([])
const follow = ref(true)
const error = ref<unknown>(null)
const problem = ref<unknown>(null)
const form = reactive({ address: '', dialect: '', calibrated: '', due: '' })

async function load(first = false) {
  try {
    const all = await api.instruments()
    instrument.value = all.find((i) => i.name === props.name) ?? null
    if (!instrument.value) throw new Error(`There is no instrument ${props.name}; it may have been removed`)
    if (first) {
      const { address, dialect, calibrated, due } = instrument.value
      Object.assign(form, { address, dialect, calibrated: calibrated ?? '', due: due ?? '' })
      dialects.value = await api.dialects()
    }
    if (follow.value) messages.value = (await api.exchanges(props.name, 60)).reverse()
    error.value = null
  } catch (e) {
    error.value = e
  }
}
void load(true)
const timer = setInterval(() => void load(), 1500)
onUnmounted(() => clearInterval(timer))

async function attempt(act: () => Promise<unknown>) {
  problem.value = null
  try {
    await act()
    await load()
  } catch (e) {
    problem.value = e
  }
}
const save = () => attempt(() => api.putInstrument(props.name, { ...form }))
const remove = () =>
  attempt(async () => {
    await api.removeInstrument(props.name)
    await router.push({ name: 'bench' })
  })
const ms = (s: number) => `${(s * 1000).toFixed(2)} ms`
const choices = computed(() => dialects.value.map((d) => ({ title: `${d.name} · ${d.title}`, value: d.name })))
const time = (t: string) =>
  new Date(t).toLocaleTimeString('en-GB') + '.' + String(new Date(t).getMilliseconds()).padStart(3, '0')
</script>

<template>
  <div class="page">
    <ProblemNote :error="error" />
    <template v-if="instrument">
      <header>
        <h1>{{ instrument.name }}</h1>
        <span v-if="instrument.healthy" class="good">● ok</span
        ><span v-else class="bad">■ {{ instrument.problem }}</span>
        <span class="grow" />
        <v-btn :to="{ name: 'bench' }">All instruments</v-btn>
      </header>
      <div class="two">
        <div class="panel scroll">
          <div class="tools">
            <h2>Last messages</h2>
            <span class="grow" /><v-checkbox v-model="follow" label="Follow" hide-details density="compact" /><v-btn
              size="small"
              :href="api.exchangesURL(props.name)"
              >CSV</v-btn
            >
          </div>
          <table class="plain" data-test="messages">
            <thead>
              <tr>
                <th>at</th>
                <th>message</th>
                <th>answer</th>
                <th class="right">latency</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="(m, i) in messages" :key="i">
                <td class="muted nowrap">{{ time(m.at) }}</td>
                <td class="code">{{ m.message }}</td>
                <td class="code" :class="{ bad: m.error }">{{ m.error ? '■ ' + m.error : m.answer || '—' }}</td>
                <td class="right">{{ ms(m.latency) }}</td>
              </tr>
            </tbody>
          </table>
        </div>
        <div class="stack">
          <div class="panel">
            <h2>Statistics</h2>
            <dl>
              <dt>identity</dt>
              <dd>{{ instrument.identity || '—' }}</dd>
              <dt>fills</dt>
              <dd>{{ instrument.fills.join(', ') || '—' }}</dd>
              <dt>messages</dt>
              <dd>{{ instrument.messages }}</dd>
              <dt>without a usable answer</dt>
              <dd>{{ instrument.errors }}</dd>
              <dt>connections</dt>
              <dd>{{ instrument.connects }}</dd>
              <dt>half answer within</dt>
              <dd>{{ ms(instrument.median) }}</dd>
              <dt>99 of 100 within</dt>
              <dd>{{ ms(instrument.p99) }}</dd>
            </dl>
          </div>
          <form v-if="session.mayEngineer" class="panel fields" @submit.prevent="save">
            <h2>Where it is and how it is spoken to</h2>
            <v-text-field v-model="form.address" label="Address" hide-details density="compact" />
            <v-select v-model="form.dialect" :items="choices" label="Dialect" hide-details density="compact" />
            <v-text-field v-model="form.calibrated" label="Calibrated" type="date" hide-details density="compact" />
            <v-text-field v-model="form.due" label="Calibration due" type="date" hide-details density="compact" />
            <ProblemNote :error="problem" />
            <div class="d-flex ga-3">
              <ConfirmButton
                label="Remove"
                :question="`Remove ${instrument.name}?`"
                consequence="No seat may need it. Its readings in the record stay."
                :act="remove"
              />
              <span class="grow" />
              <v-btn type="submit" variant="flat" color="primary">Save</v-btn>
            </div>
          </form>
        </div>
      </div>
    </template>
    <div v-else-if="!error" class="muted">Asking the service …</div>
  </div>
</template>

<style scoped>
.tools {
  display: flex;
  align-items: center;
  gap: 12px;
}
.good {
  color: var(--pass);
}
.bad {
  color: var(--fail);
  overflow-wrap: anywhere;
}
.code {
  font-family: ui-monospace, monospace;
  font-size: 12.5px;
  overflow-wrap: anywhere;
}
.nowrap {
  white-space: nowrap;
}
.fields {
  display: grid;
  gap: 10px;
}
dl {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 6px 14px;
  margin: 0;
}
dt {
  color: var(--muted);
}
dd {
  margin: 0;
  text-align: right;
  overflow-wrap: anywhere;
  font-variant-numeric: tabular-nums;
}
</style>
