<script setup lang="ts">
import { computed, onUnmounted, ref } from 'vue'

import { api, type Procedure, type Waiting } from '../api'
import EmptyPlace from '../parts/EmptyPlace.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { useLive } from '../parts/live'
import { useSession } from '../parts/session'
import { dateTime } from '../parts/format'

const live = useLive()
const session = useSession()
const waiting = ref<Waiting[]>([])
const procedures = ref<Procedure[]>([])
const error = ref<unknown>(null)
const loaded = ref(false)
const adding = ref(false)
const bays = ref<string[]>([])
const chosen = ref<string[]>([])
const serials = ref('')
const lot = ref('')
const at = ref('')

async function load() {
  try {
    waiting.value = await api.queue()
    loaded.value = true
  } catch (e) {
    error.value = e
  }
}
void load()
void api.procedures().then(
  (p) => {
    procedures.value = p
  },
  () => undefined,
)
const timer = window.setInterval(() => void load(), 2000)
onUnmounted(() => clearInterval(timer))
onUnmounted(live.listen({ run: () => void load() }))

// A range of serial numbers counts up: GC-001..GC-024.
const list = computed(() =>
  serials.value
    .split(/[\s,;]+/)
    .filter(Boolean)
    .flatMap((s) => {
      const m = /^(.*?)(\d+)\.\.(?:\1)?(\d+)$/.exec(s)
      if (!m) return [s]
      const [from, to] = [Number(m[2]), Number(m[3])]
      if (to < from || to - from > 1999) return [s]
      return Array.from({ length: to - from + 1 }, (_, k) => m[1] + String(from + k).padStart(m[2]!.length, '0'))
    }),
)
const runs = computed(() => list.value.length * chosen.value.length)

async function change(work: () => Promise<unknown>) {
  error.value = null
  try {
    await work()
    await load()
  } catch (e) {
    error.value = e
  }
}
const add = () =>
  change(async () => {
    await api.enqueue({
      bays: bays.value,
      serials: list.value,
      procedures: chosen.value,
      lot: lot.value.trim(),
      ...(at.value ? { notBefore: new Date(at.value).toISOString() } : {}),
    })
    serials.value = ''
    adding.value = false
  })
</script>

<template>
  <div class="page">
    <header>
      <h1>Line</h1>
      <span v-if="loaded" class="muted">{{ waiting.length }} waiting</span><span class="grow" />
      <v-btn v-if="session.mayOperate" variant="flat" color="primary" data-test="add" @click="adding = !adding"
        >Put in line</v-btn
      >
    </header>
    <ProblemNote :error="error" />
    <form v-if="adding" class="panel fields" @submit.prevent="add">
      <v-select v-model="bays" :items="live.list.map((b) => b.name)" label="Bays" multiple hide-details />
      <v-select
        v-model="chosen"
        :items="procedures.map((p) => p.name)"
        label="Procedures, one after the other"
        multiple
        hide-details
      />
      <v-text-field
        v-model="serials"
        label="Serial numbers, or a range such as GC-001..GC-024"
        name="serials"
        hide-details
      />
      <v-text-field v-model="lot" label="Lot" hide-details />
      <v-text-field v-model="at" label="Not before" type="datetime-local" hide-details />
      <v-btn type="submit" variant="flat" color="primary" :disabled="!bays.length || runs === 0" data-test="enqueue"
        >Put {{ runs }} in line</v-btn
      >
      <p class="muted">
        They begin by themselves, one after another; outputs go on then. Where a person changes the unit, the line holds
        until somebody lets it go on.
      </p>
    </form>
    <p v-if="!loaded && !error" class="muted">Asking the service …</p>
    <EmptyPlace
      v-if="loaded && !waiting.length && !adding"
      title="Nothing waits"
      about="Here runs wait for their bay. Each begins by itself when the one before it has ended: a night of
        batteries, or a lot of cells that a handler puts in one after another. Where a person changes the unit,
        the line holds until somebody lets it go on."
    >
      <template v-if="session.mayOperate"
        >Press <strong>Put in line</strong>, choose bays and procedures, and type or scan the serial numbers; or on the
        command line: <code>usher queue add gannet-capacity --bays bay3 --serials GP-301..GP-308</code></template
      >
      <template v-else>An operator puts runs in line.</template>
    </EmptyPlace>
    <div v-if="waiting.length" class="panel scroll">
      <table class="plain" data-test="line">
        <thead>
          <tr>
            <th>bay</th>
            <th>unit</th>
            <th>lot</th>
            <th>procedure</th>
            <th>begins</th>
            <th>by</th>
            <th />
          </tr>
        </thead>
        <tbody>
          <tr v-for="w in waiting" :key="w.id">
            <td>{{ w.bay }}</td>
            <td class="nowrap">
              <strong>{{ w.serial }}</strong>
            </td>
            <td class="muted">{{ w.lot || '—' }}</td>
            <td class="nowrap">{{ w.procedure }}</td>
            <td>{{ w.held ? `held: ${w.held}` : w.notBefore ? `from ${dateTime(w.notBefore)}` : 'in its turn' }}</td>
            <td class="muted">{{ w.by }}</td>
            <td class="right nowrap">
              <v-btn
                v-if="w.held && session.mayOperate"
                size="small"
                data-test="release"
                @click="change(() => api.release(w.id))"
                >{{ w.asks?.length ? 'I looked: let it begin' : 'Let it begin' }}</v-btn
              >
              <v-btn v-if="session.mayOperate" size="small" variant="text" @click="change(() => api.dequeue(w.id))"
                >Take out</v-btn
              >
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </div>
</template>

<style scoped>
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(220px, 1fr));
  gap: 12px;
  align-items: center;
}
.fields p {
  grid-column: 1 / -1;
}
</style>
