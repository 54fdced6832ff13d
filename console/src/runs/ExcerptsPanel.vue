<script setup lang="ts">
import { computed, ref, shallowRef, watch } from 'vue'

import { api, type Excerpt, type Excursion } from '../api'
import ProblemNote from '../parts/ProblemNote.vue'
import { seconds } from '../parts/format'
import { prefixed } from '../parts/prefixed'
import { useSession } from '../parts/session'

// The second that matters: where the run goes far from where it usually is, and the parts of it that were kept.
const props = defineProps<{ run: string; cursors: [number | null, number | null] }>()
const emit = defineEmits<{ look: [from: number, to: number] }>()
const session = useSession()
const excerpts = shallowRef<Excerpt[]>([])
const excursions = shallowRef<Excursion[] | null>(null)
const error = ref<unknown>(null)
const busy = ref(false)
const name = ref('')
const note = ref('')

const part = computed<[number, number] | null>(() => {
  const [a, b] = props.cursors
  return a === null || b === null || a === b ? null : [Math.min(a, b), Math.max(a, b)]
})

async function attempt(what: () => Promise<void>) {
  busy.value = true
  try {
    await what()
    error.value = null
  } catch (e) {
    error.value = e
  } finally {
    busy.value = false
  }
}
const list = async () => {
  const of = props.run
  const found = await api.excerpts(of)
  if (of === props.run) excerpts.value = found
}
watch(
  () => props.run,
  () => {
    excerpts.value = []
    excursions.value = null
    void attempt(list)
  },
  { immediate: true },
)
const find = () => attempt(async () => void (excursions.value = await api.excursions(props.run)))
const keep = () =>
  attempt(async () => {
    const ends = part.value
    if (!ends || !name.value.trim()) return
    await api.putExcerpt(props.run, name.value.trim(), { from: ends[0], to: ends[1], note: note.value.trim() })
    name.value = note.value = ''
    await list()
  })
const drop = (e: Excerpt) =>
  attempt(async () => {
    await api.dropExcerpt(props.run, e.name)
    await list()
  })
// An excursion is shown with a little of the run around it.
const shown = 1
const formats = ['csv', 'xlsx', 'parquet', 'json'] as const
</script>

<template>
  <div class="panel" data-test="excerpts">
    <div class="tools">
      <h2>Excerpts</h2>
      <span class="muted">parts of the run that were kept</span>
      <span class="grow" />
      <v-btn size="small" :loading="busy" data-test="find" @click="find">Find the largest excursions</v-btn>
    </div>
    <ProblemNote :error="error" />
    <table v-if="excerpts.length" class="plain" data-test="kept">
      <tbody>
        <tr v-for="e in excerpts" :key="e.name">
          <td>
            <button class="link" type="button" @click="emit('look', e.from, e.to)">{{ e.name }}</button>
          </td>
          <td class="muted nowrap">{{ seconds(e.from) }} to {{ seconds(e.to) }}</td>
          <td>{{ e.note }}</td>
          <td class="muted">{{ e.by }}</td>
          <td class="right nowrap">
            <a v-for="f in formats" :key="f" class="format" :href="api.exportURL(run, f, e.from, e.to)">{{
              f === 'csv' || f === 'json' || f === 'xlsx' ? f.toUpperCase() : 'Parquet'
            }}</a>
            <v-btn
              v-if="session.mayOperate"
              size="small"
              variant="text"
              :aria-label="`Forget ${e.name}`"
              @click="drop(e)"
              >Forget</v-btn
            >
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="!part" class="muted hint">Set both cursors in the curves, and name what lies between them.</p>
    <form v-if="part && session.mayOperate" class="keep" @submit.prevent="keep">
      <span class="muted nowrap">{{ seconds(part[0]) }} to {{ seconds(part[1]) }}</span>
      <v-text-field v-model="name" name="excerpt" label="Name" density="compact" hide-details maxlength="60" />
      <v-text-field v-model="note" name="excerpt-note" label="Note" density="compact" hide-details maxlength="2000" />
      <v-btn type="submit" size="small" color="primary" variant="flat" :disabled="!name.trim()" data-test="keep"
        >Keep</v-btn
      >
    </form>
    <template v-if="excursions">
      <h3>Largest excursions</h3>
      <p v-if="!excursions.length" class="muted">Nothing goes far from where it usually is.</p>
      <table v-else class="plain" data-test="excursions">
        <tbody>
          <tr v-for="x in excursions" :key="x.column + x.t">
            <td class="right nowrap">
              <button class="link" type="button" @click="emit('look', x.t - shown, x.t + shown)">
                {{ seconds(x.t) }}
              </button>
            </td>
            <td>{{ x.column }}</td>
            <td class="right nowrap">{{ prefixed(x.value, x.unit) }}</td>
            <td class="muted nowrap">usually {{ prefixed(x.usual, x.unit) }}</td>
            <td class="right nowrap">{{ prefixed(x.value - x.usual, x.unit, 3) }}</td>
          </tr>
        </tbody>
      </table>
    </template>
  </div>
</template>

<style scoped>
.tools,
.keep {
  display: flex;
  gap: 8px 12px;
  align-items: baseline;
  flex-wrap: wrap;
}
.keep {
  margin-top: 8px;
  align-items: center;
}
.keep .v-text-field {
  flex: 1 1 160px;
}
.link {
  text-decoration: underline dotted;
  text-underline-offset: 3px;
  color: inherit;
  text-align: left;
}
.format {
  margin-left: 10px;
}
.hint {
  font-size: 12px;
  margin: 4px 0 0;
}
.nowrap {
  white-space: nowrap;
}
h3 {
  font-size: 13px;
  margin: 12px 0 4px;
}
</style>
