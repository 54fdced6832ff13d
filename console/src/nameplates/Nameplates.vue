<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { isMap, parseDocument } from 'yaml'

import { api, type Nameplate, type NameplateOutline } from '../api'
import { catalogue } from '../parts/catalogue'
import EmptyPlace from '../parts/EmptyPlace.vue'
import ProblemNote from '../parts/ProblemNote.vue'
import { useSession } from '../parts/session'
import { dateTime } from '../parts/format'
import { save } from '../parts/save'

const session = useSession()
const plates = ref<Nameplate[]>([])
const chemistries = ref<{ name: string; source: string }[]>([])
const text = ref('')
const outline = ref<NameplateOutline | null>(null)
const error = ref<unknown>(null)
const saved = ref('') // the name under which the text as it is was stored
const loaded = ref(false)

async function load() {
  try {
    ;[plates.value, chemistries.value] = await Promise.all([api.nameplates(), api.chemistries()])
    loaded.value = true
  } catch (e) {
    error.value = e
  }
}
void load()

async function open(name: string) {
  error.value = null
  text.value = (await api.nameplate(name)).text ?? ''
}

// The form writes into the document, which is what is stored: what it leaves out follows from the chemistry.
const doc = computed(() => {
  const d = parseDocument(text.value)
  return d.errors.length === 0 && isMap(d.contents) ? d : null
})
const battery = computed(() => doc.value?.get('kind') === 'battery')
const kind = computed(() => catalogue.units.find((k) => k.name === doc.value?.get('kind')))
const missing = computed(() =>
  (kind.value?.fields ?? []).filter((f) => f.needed && stated('ratings', f.rating) === '').map((f) => f.title),
)
const windows = computed(() => (kind.value?.bounds ?? []).filter((b) => stated('windows', b.column, 'max') !== ''))
function stated(...path: string[]) {
  const value = doc.value?.getIn(path)
  return value === undefined || isMap(value) ? '' : String(value)
}
function put(value: unknown, ...path: string[]) {
  const d = doc.value
  if (!d) return
  const words = String(value ?? '').trim()
  if (words === '') d.deleteIn(path)
  else d.setIn(path, /^\d+$/.test(words) ? Number(words) : words)
  text.value = d.toString({ lineWidth: 0, flowCollectionPadding: false })
}
// bound is so many times a value with its unit; nothing for what is no such value.
function bound(value: string, times: number) {
  const [, number, unit] = /^\s*([\d.]+)\s*(\S+)\s*$/.exec(value) ?? []
  return number && unit && Number(number)
    ? { min: `0 ${unit}`, max: `${+(Number(number) * times).toPrecision(5)} ${unit}` }
    : null
}
// rate states a rating, and moves the windows that follow from it, unless somebody wrote others.
function rate(value: unknown, rating: string) {
  const before = stated('ratings', rating)
  put(value, 'ratings', rating)
  for (const b of kind.value?.bounds ?? []) {
    if (b.rating !== rating) continue
    const now = stated('windows', b.column, 'max')
    if (now !== '' && now !== bound(before, b.times)?.max) continue
    const window = bound(String(value ?? ''), b.times)
    put(window?.min, 'windows', b.column, 'min')
    put(window?.max, 'windows', b.column, 'max')
  }
}
const begin = (of: string) => {
  const lines = [`nameplate: new-${of}`, `kind: ${of}`]
  if (of === 'battery') lines.push('chemistry: NMC', 'cells: {series: 1, parallel: 1}')
  text.value = [...lines, 'ratings: {}', ''].join('\n')
}

// An answer says nothing of a text that was changed while it was on its way.
let timer = 0
const checked = ref('')
const sound = computed(() => outline.value !== null && checked.value === text.value)
watch(text, () => {
  clearTimeout(timer)
  saved.value = ''
  timer = window.setTimeout(async () => {
    const asked = text.value
    if (!asked) return
    const answer = await api.checkNameplate(asked).then(
      (found) => ({ found, problem: null }),
      (problem: unknown) => ({ found: null, problem }),
    )
    if (asked !== text.value) return
    outline.value = answer.found
    error.value = answer.problem
    checked.value = asked
  }, 300)
})

async function push() {
  try {
    const pushed = text.value
    const p = await api.pushNameplate(pushed)
    if (pushed === text.value) saved.value = p.name
    await load()
  } catch (e) {
    error.value = e
  }
}
async function take(event: Event) {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (file) text.value = await file.text()
}
const download = () =>
  save(
    `${outline.value?.name ?? 'nameplate'}.yaml`,
    'data:application/yaml;charset=utf-8,' + encodeURIComponent(text.value),
  )
</script>

<template>
  <div class="page">
    <header>
      <h1>Nameplates</h1>
      <span v-if="loaded" class="muted">{{ plates.length }}</span><span class="grow" />
      <label v-if="session.mayEngineer" class="file"
        >Import <input type="file" accept=".yaml,.yml" @change="take"
      /></label>
      <template v-if="session.mayEngineer">
        <span class="muted">New:</span>
        <v-btn
          v-for="k in catalogue.units"
          :key="k.name"
          variant="outlined"
          size="small"
          :data-test="'new-' + k.name"
          @click="begin(k.name)"
          >{{ k.title }}</v-btn
        >
      </template>
    </header>
    <ProblemNote v-if="!text" :error="error" />
    <p v-if="!loaded && !error" class="muted">Asking the service …</p>
    <EmptyPlace
      v-if="loaded && !plates.length && !text"
      title="No nameplate yet"
      about="A nameplate says what a type of unit is: its ratings as the data sheet states them, and the windows in
        which it is safe. Procedures take their levels from it, and nothing is set beyond its windows."
    >
      Press the kind of unit above and fill in its data sheet, or push a file with
      <code>usher nameplate push FILE</code>.
    </EmptyPlace>
    <div class="columns">
      <div v-if="plates.length" class="panel">
        <table class="plain">
          <tbody>
            <tr
              v-for="p in plates"
              :key="p.name"
              class="link"
              tabindex="0"
              @click="open(p.name)"
              @keydown.enter="open(p.name)"
            >
              <td>
                <strong>{{ p.name }}</strong>
                <div class="muted">{{ p.title }}</div>
              </td>
              <td class="muted nowrap">{{ dateTime(p.at) }}</td>
            </tr>
          </tbody>
        </table>
      </div>
      <div v-if="text" class="panel">
        <div v-if="kind && session.mayEngineer" class="fields">
          <v-text-field
            :model-value="stated('nameplate')"
            label="Name"
            name="name"
            hide-details
            density="compact"
            @update:model-value="put($event, 'nameplate')"
          />
          <v-text-field
            :model-value="stated('title')"
            label="Title"
            name="title"
            hide-details
            density="compact"
            @update:model-value="put($event, 'title')"
          />
          <v-select
            v-if="battery && !isMap(doc?.get('chemistry'))"
            :model-value="stated('chemistry')"
            :items="chemistries.map((c) => c.name)"
            label="Chemistry"
            hide-details
            density="compact"
            @update:model-value="put($event, 'chemistry')"
          />
          <v-text-field
            v-if="battery"
            :model-value="stated('cells', 'series')"
            label="Cells in series"
            name="series"
            type="number"
            min="1"
            hide-details
            density="compact"
            @update:model-value="put($event, 'cells', 'series')"
          />
          <v-text-field
            v-if="battery"
            :model-value="stated('cells', 'parallel')"
            label="in parallel"
            name="parallel"
            type="number"
            min="1"
            hide-details
            density="compact"
            @update:model-value="put($event, 'cells', 'parallel')"
          />
          <v-text-field
            v-for="f in kind.fields"
            :key="f.rating"
            :model-value="stated('ratings', f.rating)"
            :label="f.title + (f.needed ? '' : ' (if known)')"
            :name="'form-' + f.rating"
            :placeholder="f.example"
            persistent-placeholder
            hide-details
            density="compact"
            @update:model-value="rate($event, f.rating)"
          />
          <p v-if="missing.length" data-test="missing">Still missing: {{ missing.join(', ') }}.</p>
          <p v-if="battery" class="muted">
            {{ chemistries.find((c) => c.name === stated('chemistry'))?.source }}. Every other rating is stated in the
            table below; what is left empty follows from the chemistry.
          </p>
          <p v-else-if="windows.length" class="muted" data-test="follows">
            Setpoints are held to what follows:
            {{ windows.map((b) => `${b.column} up to ${stated('windows', b.column, 'max')}`).join(', ') }}.
          </p>
        </div>
        <textarea
          v-model="text"
          class="text"
          rows="16"
          spellcheck="false"
          aria-label="Text of the nameplate"
          data-test="nameplate-text"
        />
        <div class="buttons">
          <v-btn
            v-if="session.mayEngineer"
            variant="flat"
            color="primary"
            :disabled="!sound"
            data-test="save-nameplate"
            @click="push"
            >Store</v-btn
          >
          <v-btn variant="text" :disabled="!sound" @click="download">Export</v-btn
          ><span v-if="saved" class="muted">{{ saved }} is stored.</span>
          <v-btn
            v-if="saved && kind?.procedure"
            variant="text"
            data-test="next"
            :to="{ name: 'procedures', query: { from: kind.procedure, for: saved } }"
            >Next: a procedure for it</v-btn
          >
        </div>
        <ProblemNote :error="error" />
      </div>
    </div>
    <div v-if="outline" class="panel scroll">
      <h2>
        {{ outline.name
        }}<span v-if="outline.chemistry" class="muted">
          · {{ outline.series }} in series, {{ outline.parallel }} in parallel, {{ outline.chemistry }}</span
        >
      </h2>
      <table class="plain" data-test="ratings">
        <thead>
          <tr>
            <th>rating</th>
            <th class="right">value</th>
            <th>from</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in outline.ratings" :key="r.name" :class="{ muted: r.assumed }">
            <td>{{ r.name }}</td>
            <td class="right">
              <input
                v-if="session.mayEngineer"
                class="rating"
                :name="r.name"
                :value="r.assumed ? '' : stated('ratings', r.name) || r.value"
                :placeholder="r.value"
                :aria-label="r.name"
                @change="put(($event.target as HTMLInputElement).value, 'ratings', r.name)"
              />
              <template v-else>{{ r.value }}</template>
            </td>
            <td>{{ r.assumed ?? 'the nameplate' }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </div>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: minmax(240px, 1fr) minmax(0, 2fr);
  gap: 16px;
  align-items: start;
}
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(150px, 1fr));
  gap: 10px;
  margin-bottom: 12px;
}
.fields p {
  grid-column: 1 / -1;
}
.text {
  width: 100%;
  font-family: ui-monospace, monospace;
  font-size: 13px;
  background: transparent;
  color: inherit;
  border: 1px solid var(--line);
  border-radius: 8px;
  padding: 10px;
}
.buttons {
  display: flex;
  gap: 10px;
  align-items: center;
  margin-top: 10px;
}
.rating {
  width: 120px;
  text-align: right;
  font: inherit;
  color: inherit;
  background: transparent;
  border: 1px solid var(--line);
  border-radius: 6px;
  padding: 3px 8px;
}
.rating:focus {
  border-color: currentColor;
}
.rating::placeholder {
  color: var(--muted);
  opacity: 1;
}
.file {
  cursor: pointer;
  padding: 6px 12px;
}
.file input {
  display: none;
}
@media (max-width: 900px) {
  .columns {
    grid-template-columns: 1fr;
  }
}
</style>
