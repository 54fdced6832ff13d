<script setup lang="ts">
import { computed, onUnmounted, ref, watch } from 'vue'

import { api, type Lot, type LotOrder, type LotProcedure } from '../api'
import ProblemNote from '../parts/ProblemNote.vue'
import { counted, seconds } from '../parts/format'
import { useLive } from '../parts/live'
import { useRequest } from '../parts/request'
import { useSession } from '../parts/session'
import LotComparison from './LotComparison.vue'
import LotFigures from './LotFigures.vue'

// How is the lot? It is asked for anew while the lot runs.
const props = defineProps<{ lot: string }>()
const live = useLive()
const session = useSession()
const judged = ref<Lot | null>(null)
const error = ref<unknown>(null)
const strict = ref(false)
const each = ref(false)
const changing = ref(false)
const order = ref<LotOrder>({})

let ticket = 0
async function load() {
  const mine = ++ticket
  try {
    const got = await api.lot(props.lot, { strict: strict.value, each: each.value })
    if (mine !== ticket) return
    judged.value = got
    error.value = null
  } catch (e) {
    if (mine === ticket) error.value = e
  }
}
watch([() => props.lot, strict, each], load, { immediate: true })
let timer = 0
onUnmounted(
  live.listen({
    run: (r) => {
      if (r.lot !== props.lot || r.state === 'live') return
      clearTimeout(timer)
      timer = window.setTimeout(() => void load(), 500)
    },
    gap: () => void load(),
  }),
)
onUnmounted(() => clearTimeout(timer))

const shares = (p: LotProcedure) => [
  { word: 'Yield', share: p.yield },
  { word: 'At first', share: p.firstPass },
  { word: 'Retested', share: p.retest },
]
const logs = [
  { format: 'text', title: 'Log as text' },
  { format: 'csv', title: 'Log as CSV' },
  { format: 'xlsx', title: 'Log as workbook' },
  { format: 'html', title: 'Log as HTML' },
]
const percent = (x: number) => `${x.toFixed(1)} %`
const most = (p: LotProcedure) => Math.max(...p.pareto.map((c) => c.units), 1)
const running = computed(() => live.list.filter((b) => b.state === 'live' && b.run?.lot === props.lot).length)

function change() {
  order.value = { ...judged.value?.order }
  changing.value = !changing.value
}
const {
  busy,
  error: refused,
  run: keep,
} = useRequest(async () => {
  await api.orderLot(props.lot, { ...order.value, quantity: Number(order.value.quantity ?? 0) })
  changing.value = false
  await load()
})
</script>

<template>
  <div class="page">
    <header>
      <h1>Lot {{ lot }}</h1>
      <span v-if="judged?.order.quantity" class="muted">{{ counted(judged.order.quantity, 'unit') }}</span>
      <span v-if="judged?.order.closed" class="muted">closed</span>
      <span v-if="running" class="live">● {{ running }} live</span>
      <span class="grow" />
      <v-checkbox v-model="strict" label="Marginal fails" hide-details density="compact" />
      <v-checkbox v-model="each" label="Count every failing figure" hide-details density="compact" />
      <v-btn v-if="session.mayEngineer" variant="text" @click="change">Change</v-btn>
      <v-btn :href="api.lotReportURL(lot, 'pdf')" data-test="lot-report">Report PDF</v-btn>
      <v-menu
        ><template #activator="{ props: menu }"><v-btn v-bind="menu" data-test="lot-more">More</v-btn></template>
        <v-list density="compact">
          <v-list-item :href="api.lotReportURL(lot, 'html')" title="Report as HTML" />
          <v-list-item v-for="f in logs" :key="f.format" :href="api.lotLogURL(lot, f.format)" :title="f.title" />
          <v-list-item
            v-for="f in ['csv', 'xlsx', 'parquet', 'json']"
            :key="f"
            :href="api.selectionURL({ lot }, f)"
            :title="`Figures of all runs: ${f.toUpperCase()}`"
          />
          <v-list-item :to="{ name: 'runs', query: { lot } }" title="Its runs" /> </v-list
      ></v-menu>
    </header>
    <ProblemNote :error="error ?? refused" />
    <form v-if="changing" class="panel fields" @submit.prevent="keep()">
      <v-text-field v-model="order.quantity" type="number" min="0" label="How many units it has" hide-details />
      <v-text-field v-model="order.note" label="Note" hide-details />
      <v-checkbox v-model="order.closed" label="Closed: nothing more is tested in it" hide-details />
      <v-btn type="submit" variant="flat" color="primary" :loading="busy">Keep</v-btn>
    </form>
    <p v-if="judged?.order.note" class="muted">{{ judged.order.note }}</p>
    <p v-if="!judged && !error" class="muted">Asking the service …</p>
    <section v-for="p in judged?.procedures ?? []" :key="p.procedure" class="stack" data-test="lot">
      <div class="title">
        <strong>{{ p.title || p.procedure }}</strong>
        <span class="muted"
          >{{ counted(p.units, 'unit') }}, {{ counted(p.attempts, 'attempt')
          }}<template v-if="p.beside">, {{ p.beside }} beside that count for nothing</template></span
        >
      </div>
      <div class="top">
        <div class="panel shares" data-test="shares">
          <div v-for="s in shares(p)" :key="s.word">
            <span class="muted">{{ s.word }}</span>
            <strong>{{ s.share ? percent(s.share.value) : '—' }}</strong>
            <div v-if="s.share" class="interval" :title="`95 %: ${percent(s.share.low)} to ${percent(s.share.high)}`">
              <i :style="{ left: `${s.share.low}%`, width: `${s.share.high - s.share.low}%` }" />
              <b :style="{ left: `${s.share.value}%` }" />
            </div>
            <span v-if="s.share" class="muted small"
              >{{ percent(s.share.low) }} to {{ percent(s.share.high) }} (95 %)</span
            >
          </div>
        </div>
        <div class="panel" data-test="pareto">
          <h2>By what units fail</h2>
          <p v-if="!p.pareto.length" class="muted">Nothing failed.</p>
          <div v-for="c in p.pareto" :key="c.figure" class="cause">
            <span>{{ c.title || c.figure }}</span>
            <span class="bar"><i :style="{ width: `${(100 * c.units) / most(p)}%` }" /></span>
            <span class="right">{{ c.units }}</span>
            <span class="right muted">{{ percent(c.cumulative) }}</span>
          </div>
        </div>
        <div class="panel" data-test="failing">
          <h2>Failed units</h2>
          <p v-if="!p.failing.length" class="muted">None.</p>
          <div class="serials">
            <router-link v-for="s in p.failing.slice(0, 60)" :key="s" :to="{ name: 'unit', params: { serial: s } }">{{
              s
            }}</router-link>
            <span v-if="p.failing.length > 60" class="muted">and {{ p.failing.length - 60 }} more</span>
          </div>
        </div>
      </div>
      <LotFigures :figures="p.figures" />
      <LotComparison :lot="lot" :procedure="p.procedure" />
      <div class="panel scroll">
        <h2>Pace</h2>
        <table class="plain">
          <thead>
            <tr>
              <th>bay</th>
              <th class="right">a test takes</th>
              <th class="right">between two</th>
              <th class="right">a unit takes</th>
              <th class="right">pauses</th>
              <th class="right">in use</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="b in p.bays" :key="b.bay">
              <td>{{ b.bay }}</td>
              <td class="right">{{ b.test === null ? '—' : seconds(b.test) }}</td>
              <td class="right">{{ b.idle === null ? '—' : seconds(b.idle) }}</td>
              <td class="right">{{ b.perUnit === null ? '—' : seconds(b.perUnit) }}</td>
              <td class="right">{{ seconds(b.paused) }}</td>
              <td class="right">{{ percent(b.use) }}</td>
            </tr>
          </tbody>
        </table>
        <p v-if="p.bays.length > 1" class="muted">Side by side the bays saved {{ seconds(p.saved) }}.</p>
      </div>
    </section>
  </div>
</template>

<style scoped>
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(180px, 1fr));
  gap: 12px;
  align-items: center;
}
.title {
  display: flex;
  gap: 14px;
  align-items: baseline;
}
.title strong {
  font-size: 16px;
}
.top {
  display: grid;
  grid-template-columns: minmax(220px, 1fr) minmax(300px, 1.6fr) minmax(200px, 1fr);
  gap: var(--gap);
}
.shares {
  display: grid;
  gap: 14px;
}
.shares > div {
  display: grid;
  gap: 2px;
}
.shares strong {
  font-size: 24px;
  font-weight: 650;
  font-variant-numeric: tabular-nums;
}
.small {
  font-size: 12px;
}
.interval {
  position: relative;
  height: 8px;
  border-radius: 4px;
  background: var(--idle-fill);
}
.interval i {
  position: absolute;
  inset: 0 auto;
  border-radius: 4px;
  background: color-mix(in srgb, var(--volts) 35%, transparent);
}
.interval b {
  position: absolute;
  top: -2px;
  bottom: -2px;
  width: 3px;
  margin-left: -1.5px;
  background: var(--volts);
}
.cause {
  display: grid;
  grid-template-columns: minmax(120px, 1fr) minmax(80px, 1.4fr) 34px 60px;
  gap: 10px;
  align-items: center;
  padding: 3px 0;
  font-variant-numeric: tabular-nums;
}
.cause .bar {
  height: 12px;
  background: var(--idle-fill);
  border-radius: 3px;
}
.cause .bar i {
  display: block;
  height: 100%;
  border-radius: 3px;
  background: var(--fail);
}
.right {
  text-align: right;
}
.serials {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 12px;
}
.live {
  color: var(--live);
  font-weight: 600;
}
@media (max-width: 900px) {
  .top {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
