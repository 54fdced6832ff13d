<script setup lang="ts">
import { computed, onUnmounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, type Unit, type UnitChange } from '../api'
import ConfirmButton from '../parts/ConfirmButton.vue'
import EmptyPlace from '../parts/EmptyPlace.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import StateChip from '../parts/StateChip.vue'
import { dateTime, seconds, stateOf, uncertain } from '../parts/format'
import { useLive } from '../parts/live'
import { useSession } from '../parts/session'

// All that is known of a unit.
const props = defineProps<{ serial: string }>()
const router = useRouter()
const live = useLive()
const session = useSession()
const unit = ref<Unit | null>(null)
const error = ref<unknown>(null)
const why = ref('')

async function load() {
  try {
    unit.value = await api.unit(props.serial)
    error.value = null
  } catch (e) {
    unit.value = null
    error.value = e
  }
}
watch(() => props.serial, load, { immediate: true })
onUnmounted(
  live.listen({
    run: (r) => {
      if (r.serial === props.serial) void load()
    },
    gap: () => void load(),
  }),
)
async function change(c: UnitChange) {
  try {
    unit.value = await api.changeUnit(props.serial, c)
    why.value = ''
    error.value = null
  } catch (e) {
    error.value = e
  }
}
const parts = computed(() => Object.entries(unit.value?.parts ?? {}))
const open = (id: string) => void router.push({ name: 'run', params: { run: id } })
</script>

<template>
  <div class="page">
    <header>
      <h1>{{ serial }}</h1>
      <span v-if="unit?.nameplate" class="muted">{{ unit.nameplate }}</span>
      <router-link v-for="l in unit?.lots ?? []" :key="l" :to="{ name: 'lot', params: { lot: l } }"
        >lot {{ l }}</router-link
      >
      <StateChip v-if="unit?.card" :state="unit.card.state" />
      <span class="grow" />
      <v-btn
        v-if="unit && unit.runs.length > 1"
        :to="{
          name: 'overlay',
          query: {
            runs: unit.runs
              .map((r) => r.id)
              .slice(0, 8)
              .join(','),
          },
        }"
        >Overlay its runs</v-btn
      >
      <v-btn v-if="unit" :href="api.unitReportURL(serial, 'history', 'pdf')">History PDF</v-btn>
      <v-btn v-if="unit?.card" :href="api.unitReportURL(serial, 'card', 'pdf')">Card PDF</v-btn>
    </header>
    <ProblemNote :error="error" />
    <EmptyPlace
      v-if="error && !unit"
      title="Nothing is known of it"
      about="Here the history of a unit is: every run, its card, what is in it."
      >Look whether the serial number is right.</EmptyPlace
    >
    <p v-if="unit?.quarantine" class="quarantine" data-test="quarantine">◆ In quarantine: {{ unit.quarantine }}</p>
    <div v-if="unit" class="two">
      <div class="stack">
        <div v-if="unit.card" class="panel scroll">
          <h2>Card</h2>
          <table class="plain" data-test="card">
            <thead>
              <tr>
                <th>procedure</th>
                <th>kind</th>
                <th>state</th>
                <th class="right">attempts</th>
                <th>at</th>
              </tr>
            </thead>
            <tbody>
              <tr
                v-for="i in unit.card.items"
                :key="i.procedure"
                :class="{ link: i.run }"
                @click="i.run && open(i.run)"
              >
                <td>
                  <strong>{{ i.procedure }}</strong>
                  <div class="muted">{{ i.title }}</div>
                </td>
                <td>{{ i.kind }}</td>
                <td><StateChip :state="i.state" /></td>
                <td class="right">{{ i.attempts }}</td>
                <td>{{ i.at ? dateTime(i.at) : '—' }}</td>
              </tr>
            </tbody>
          </table>
        </div>
        <div v-if="unit.across.length" class="panel scroll">
          <h2>In several bays</h2>
          <table class="plain" data-test="across">
            <thead>
              <tr>
                <th>figure</th>
                <th>found</th>
                <th class="right">difference ± U (95 %)</th>
                <th aria-label="agreement" />
              </tr>
            </thead>
            <tbody>
              <tr v-for="f in unit.across" :key="f.procedure + f.figure + f.where">
                <td>
                  <strong>{{ f.title }}</strong>
                  <div class="muted">{{ f.where }}</div>
                </td>
                <td>
                  <div v-for="b in f.bays" :key="b.bay">
                    <router-link :to="{ name: 'run', params: { run: b.run } }">{{ b.bay }}</router-link>
                    {{ uncertain(b.value, b.u, f.unit ?? '') }}
                  </div>
                </td>
                <td class="right">{{ uncertain(f.difference, f.u, f.unit ?? '') }}</td>
                <td>{{ f.u === 0 ? 'no uncertainty is known' : f.differs ? '■ differ' : '● agree' }}</td>
              </tr>
            </tbody>
          </table>
        </div>
        <div class="panel scroll">
          <h2>Runs</h2>
          <table class="plain cards" data-test="unit-runs">
            <thead>
              <tr>
                <th>began</th>
                <th>procedure</th>
                <th>bay</th>
                <th class="right">took</th>
                <th>outcome</th>
                <th>why</th>
              </tr>
            </thead>
            <tbody>
              <tr
                v-for="r in unit.runs"
                :key="r.id"
                class="link"
                tabindex="0"
                @click="open(r.id)"
                @keydown.enter="open(r.id)"
              >
                <td>{{ dateTime(r.startedAt) }}</td>
                <td class="first">{{ r.procedure }}</td>
                <td>{{ r.bay }}</td>
                <td class="right">{{ seconds(r.duration) }}</td>
                <td class="second"><StateChip :state="stateOf(r)" /></td>
                <td class="muted later">{{ r.reason }}</td>
              </tr>
            </tbody>
          </table>
        </div>
      </div>
      <div class="stack">
        <div class="panel">
          <h2>Parts</h2>
          <p v-if="!parts.length" class="muted">Nobody has said what is in it.</p>
          <dl>
            <template v-for="[name, text] in parts" :key="name"
              ><dt>{{ name }}</dt>
              <dd>{{ text }}</dd></template
            >
          </dl>
        </div>
        <div v-if="session.mayEngineer" class="panel stack">
          <h2>May it be tested?</h2>
          <v-text-field v-model="why" label="Why" name="why" hide-details density="compact" />
          <ConfirmButton
            v-if="!unit.quarantine"
            label="Quarantine"
            :question="`Keep ${serial} from being tested?`"
            consequence="No run on it begins until an engineer releases it."
            keep="Leave it"
            :disabled="!why.trim()"
            :act="() => change({ quarantine: why.trim() })"
          />
          <v-btn v-else data-test="release" @click="change({ quarantine: '', why: why.trim() })">Release</v-btn>
          <v-btn @click="change({ extra: (unit.extra ?? 0) + 1, why: why.trim() })">Allow another attempt</v-btn>
          <p v-if="unit.extra" class="muted">{{ unit.extra }} more than its nameplate allows</p>
        </div>
      </div>
    </div>
  </div>
</template>

<style scoped>
.quarantine {
  background: var(--fail-fill);
  color: var(--fail);
  border-radius: 8px;
  padding: 10px 14px;
  font-weight: 600;
  margin: 0;
}
dl {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 4px 14px;
  margin: 0;
}
dt {
  color: var(--muted);
}
dd {
  margin: 0;
}
</style>
