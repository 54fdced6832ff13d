<script setup lang="ts">
import { computed, onUnmounted, reactive, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, type BenchConfig, type Dialect, type Found, type Instrument } from '../api'
import BayForm from './BayForm.vue'
import DialectPanel from './DialectPanel.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { counted } from '../parts/format'
import { useSession } from '../parts/session'

const session = useSession()
const router = useRouter()
const may = computed(() => session.mayEngineer)
const instruments = ref<Instrument[]>([])
const config = ref<BenchConfig | null>(null)
const dialects = ref<Dialect[]>([])
const error = ref<unknown>(null)
const loaded = ref(false)
const today = new Date().toISOString().slice(0, 10)
const overdue = (i: { due?: string }) => !!i.due && i.due < today

async function load() {
  try {
    ;[instruments.value, config.value, dialects.value] = await Promise.all([
      api.instruments(),
      api.bench(),
      api.dialects(),
    ])
    error.value = null
  } catch (e) {
    error.value = e
  } finally {
    loaded.value = true
  }
}
void load()
const timer = setInterval(() => void load(), 5000)
onUnmounted(() => clearInterval(timer))

// A new instrument: its address, who answers there, and the dialects that fit.
const fresh = reactive({ address: '', name: '', dialect: '', calibrated: '', due: '' })
const found = ref<Found | null>(null)
const problem = ref<unknown>(null)
const busy = ref('')
async function attempt(what: string, act: () => Promise<void>) {
  busy.value = what
  problem.value = null
  try {
    await act()
  } catch (e) {
    problem.value = e
  } finally {
    busy.value = ''
  }
}
const identify = () =>
  attempt('identify', async () => {
    found.value = (await api.discover({ addresses: [fresh.address.trim()] }))[0] ?? null
    fresh.dialect = found.value?.dialects[0] ?? fresh.dialect
    if (!fresh.name && fresh.dialect) fresh.name = fresh.dialect.replace(/^sim-/, '') + '-new'
  })
const add = () =>
  attempt('add', async () => {
    await api.putInstrument(fresh.name.trim(), {
      address: fresh.address.trim(),
      dialect: fresh.dialect,
      calibrated: fresh.calibrated,
      due: fresh.due,
    })
    Object.assign(fresh, { address: '', name: '', dialect: '', calibrated: '', due: '' })
    found.value = null
    await load()
  })
const choices = computed(() => dialects.value.map((d) => ({ title: `${d.name} · ${d.title}`, value: d.name })))

// Discovery asks only at the places that are named.
const places = reactive({ hosts: '', ports: '5025', serial: false, announced: false })
const answers = ref<Found[] | null>(null)
const scan = () =>
  attempt('scan', async () => {
    const list = (text: string) => text.split(/[\s,;]+/).filter(Boolean)
    answers.value = await api.discover({
      hosts: list(places.hosts),
      ports: places.hosts ? list(places.ports).map(Number) : [],
      serial: places.serial,
      announced: places.announced,
    })
  })
function take(f: Found) {
  fresh.address = f.address
  fresh.dialect = f.dialects[0] ?? ''
  found.value = f
  answers.value = null
}
const milliseconds = (s: number) => (s > 0 ? `${(s * 1000).toFixed(s < 0.01 ? 2 : 0)} ms` : '—')
const open = (i: Instrument) => void router.push({ name: 'instrument', params: { name: i.name } })
</script>

<template>
  <div class="page">
    <header>
      <h1>Bench</h1>
      <span v-if="config" class="muted"
        >{{ counted(instruments.length, 'instrument') }}, {{ counted(Object.keys(config.bays).length, 'bay') }}</span
      >
    </header>
    <ProblemNote :error="error" />
    <div class="panel scroll">
      <h2>Instruments</h2>
      <table class="plain cards" data-test="instruments">
        <thead>
          <tr>
            <th>instrument</th>
            <th>health</th>
            <th>fills</th>
            <th>dialect</th>
            <th class="right">answers in</th>
            <th class="right">errors</th>
            <th class="right">connections</th>
            <th>calibration due</th>
            <th>address</th>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="i in instruments"
            :key="i.name"
            class="link"
            tabindex="0"
            @click="open(i)"
            @keydown.enter="open(i)"
          >
            <td class="first">
              <strong>{{ i.name }}</strong>
            </td>
            <td class="second">
              <span v-if="i.healthy" class="good">● ok</span
              ><span v-else class="bad">■ {{ i.identity ? 'another answers' : 'silent' }}</span>
            </td>
            <td class="later">{{ i.fills.join(', ') || '—' }}</td>
            <td>{{ i.dialect }}</td>
            <td class="right" :title="`99 of 100 within ${milliseconds(i.p99)}`">{{ milliseconds(i.median) }}</td>
            <td class="right">{{ i.errors }}</td>
            <td class="right">{{ i.connects }}</td>
            <td :class="{ bad: overdue(i) }">{{ i.due ? (overdue(i) ? '■ ' : '') + i.due : '—' }}</td>
            <td class="muted address">{{ i.address }}</td>
          </tr>
        </tbody>
      </table>
      <p v-if="!loaded" class="muted pa-2">Asking the service …</p>
      <p v-else-if="config && !instruments.length" class="muted pa-2">
        No instrument yet. Add the first one below by its address.
      </p>
    </div>
    <div v-if="session.mayEngineer" class="forms">
      <form class="panel" data-test="add" @submit.prevent="add">
        <h2>Add an instrument</h2>
        <div class="fields">
          <v-text-field
            v-model="fresh.address"
            label="Address"
            name="address"
            placeholder="tcp://192.168.1.20:5025"
            hide-details
            density="compact"
            class="wide"
          />
          <v-btn :loading="busy === 'identify'" :disabled="!fresh.address.trim()" data-test="identify" @click="identify"
            >Who is there?</v-btn
          >
        </div>
        <p v-if="found" class="mt-2" :class="found.identity ? 'muted' : 'bad'">
          {{
            found.identity
              ? `● It says “${found.identity}”${found.name ? `; the bench has it as ${found.name}` : ''}.`
              : `■ Nobody answers: ${found.problem}`
          }}
          <template v-if="found.identity && !found.dialects.length">
            No dialect fits; choose one, or write one.</template
          >
        </p>
        <div class="fields mt-3">
          <v-text-field v-model="fresh.name" label="Name" name="name" hide-details density="compact" />
          <v-select v-model="fresh.dialect" :items="choices" label="Dialect" hide-details density="compact" />
          <v-text-field v-model="fresh.calibrated" label="Calibrated" type="date" hide-details density="compact" />
          <v-text-field v-model="fresh.due" label="Due" type="date" hide-details density="compact" />
          <v-btn
            type="submit"
            variant="flat"
            color="primary"
            :loading="busy === 'add'"
            :disabled="!fresh.address.trim() || !fresh.name.trim() || !fresh.dialect"
            data-test="add-instrument"
            >Add</v-btn
          >
        </div>
        <ProblemNote class="mt-3" :error="problem" />
      </form>
      <form class="panel" @submit.prevent="scan">
        <h2>Look for instruments</h2>
        <p class="muted">Only the places named here are asked.</p>
        <div class="fields mt-3">
          <v-text-field
            v-model="places.hosts"
            label="Hosts"
            placeholder="192.168.1.20, 192.168.1.21"
            hide-details
            density="compact"
            class="wide"
          />
          <v-text-field v-model="places.ports" label="Ports" hide-details density="compact" />
          <v-checkbox v-model="places.serial" label="Serial devices" hide-details density="compact" />
          <v-checkbox v-model="places.announced" label="Announced on the network" hide-details density="compact" />
          <v-btn
            type="submit"
            :loading="busy === 'scan'"
            :disabled="!places.hosts.trim() && !places.serial && !places.announced"
            >Look</v-btn
          >
        </div>
        <p v-if="answers && !answers.length" class="muted mt-3">Nothing announced itself.</p>
        <table v-else-if="answers" class="plain mt-3">
          <tbody>
            <tr v-for="f in answers" :key="f.address">
              <td>{{ f.address }}</td>
              <td :class="{ muted: !f.identity }">{{ f.identity || 'no answer' }}</td>
              <td class="right">
                <v-btn v-if="f.identity && !f.name" size="small" @click="take(f)">Take</v-btn
                ><span v-else class="muted">{{ f.name }}</span>
              </td>
            </tr>
          </tbody>
        </table>
      </form>
    </div>
    <BayForm v-if="config" :config="config" :dialects="dialects" :may="may" @changed="load" />
    <DialectPanel :dialects="dialects" :may="may" @changed="load" />
  </div>
</template>

<style scoped>
.forms {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(420px, 100%), 1fr));
  gap: var(--gap);
  align-items: start;
}
.fields {
  display: flex;
  gap: 10px;
  align-items: center;
  flex-wrap: wrap;
}
.fields > .v-input {
  flex: 1 1 150px;
  min-width: 120px;
}
.fields > .wide {
  flex-basis: 260px;
}
.good {
  color: var(--pass);
}
.bad {
  color: var(--fail);
}
.address {
  max-width: 260px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
td {
  white-space: nowrap;
}
</style>
