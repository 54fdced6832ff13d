<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { onBeforeRouteLeave, useRoute } from 'vue-router'

import { api, type Procedure } from '../api'
import ProblemNote from '../parts/ProblemNote.vue'
import ProcedureText from './ProcedureText.vue'
import RehearsalPanel from './RehearsalPanel.vue'
import RevisionsPanel from './RevisionsPanel.vue'
import ShapePreview from './ShapePreview.vue'
import StageOutline from './StageOutline.vue'
import { useDraft } from './draft'
import { useSession } from '../parts/session'
import { renamed, withTable } from './document'
import { seconds } from '../parts/format'

const props = defineProps<{ name: string }>()
const route = useRoute()
const session = useSession()
const text = ref('')
const saved = ref('')
const stored = ref<Procedure | null>(null)
const error = ref<unknown>(null)
const why = ref('')
const saving = ref(false)
const tab = ref('outline')
const chosen = ref(-1)
const nameplates = ref<string[]>([])
const editor = ref<InstanceType<typeof ProcedureText> | null>(null)
const file = ref<HTMLInputElement | null>(null)
const { outline, rehearsal, rehearsing, stale, error: draftError, outlined, rehearse } = useDraft(text)

async function load() {
  error.value = null
  try {
    nameplates.value = (await api.nameplates()).map((n) => n.name)
    const base = typeof route.query.from === 'string' ? route.query.from : ''
    if (base) {
      const ready = (await api.ready()).find((r) => r.name === base)
      const source = ready?.text ?? (await api.procedure(base)).text ?? ''
      const plate = typeof route.query.for === 'string' ? route.query.for : ''
      text.value = renamed(plate ? source.replace(/^for:.*$/m, `for: ${plate}`) : source, props.name)
    } else {
      stored.value = await api.procedure(props.name)
      text.value = saved.value = stored.value.text ?? ''
    }
    await outlined()
  } catch (e) {
    error.value = e
  }
}
watch(() => props.name, load, { immediate: true })

const findings = computed(() => outline.value?.findings ?? [])
const sound = computed(() => outline.value !== null && findings.value.length === 0)
const changed = computed(() => text.value !== saved.value)
const playing = computed(() => (outline.value?.stages ?? []).filter((s) => s.tracks?.length))
// The chosen stage's shapes, else those of the first stage that plays.
const drawn = computed(() => {
  const s = outline.value?.stages[chosen.value]
  return s?.tracks?.length ? [s] : playing.value.slice(0, 1)
})

async function save() {
  saving.value = true
  error.value = null
  try {
    stored.value = await api.pushProcedure(text.value, why.value)
    saved.value = text.value
    why.value = ''
  } catch (e) {
    error.value = e
  } finally {
    saving.value = false
  }
}

async function importTable(e: Event) {
  const chosenFile = (e.target as HTMLInputElement).files?.[0]
  if (!chosenFile) return
  error.value = null
  try {
    const table = await api.readTable(chosenFile)
    text.value = withTable(text.value, chosenFile.name.replace(/\.xlsx$/i, '.csv'), table.text)
  } catch (err) {
    error.value = err
  }
  ;(e.target as HTMLInputElement).value = ''
}

onBeforeRouteLeave(
  () =>
    !changed.value ||
    !session.mayEngineer ||
    window.confirm('Leave without saving? The changes of this text are lost.'),
)
</script>

<template>
  <div class="page editor">
    <header>
      <h1>{{ name }}</h1>
      <span class="muted">{{ outline?.title }}</span>
      <span class="grow" />
      <span v-if="sound" class="good" data-test="sound"
        >● no findings, about {{ seconds(outline?.duration ?? 0) }}</span
      >
      <span v-else-if="findings.length" class="bad" data-test="unsound"
        >■ {{ findings.length }} {{ findings.length === 1 ? 'finding' : 'findings' }}</span
      >
      <template v-if="session.mayEngineer">
        <v-text-field v-model="why" label="Why this revision" density="compact" hide-details class="why" />
        <v-btn
          variant="flat"
          color="primary"
          data-test="save"
          :disabled="!sound || !changed"
          :loading="saving"
          @click="save"
          >{{ stored ? `Save as revision ${stored.revision + 1}` : 'Save' }}</v-btn
        >
      </template>
    </header>
    <ProblemNote :error="error" />
    <div class="halves">
      <div class="left">
        <ProcedureText
          ref="editor"
          v-model="text"
          :findings="findings"
          :names="outline?.names ?? []"
          :readonly="!session.mayEngineer"
        />
        <ul v-if="findings.length" class="findings" data-test="finding-list">
          <li v-for="(f, i) in findings" :key="i">
            <button type="button" @click="editor?.goTo(f.line)">
              <span class="muted">line {{ f.line }}</span> {{ f.message }}
            </button>
          </li>
        </ul>
      </div>
      <div class="right-side panel">
        <div class="tabs" role="tablist">
          <button
            v-for="t in ['outline', 'shapes', 'rehearsal', 'revisions']"
            :key="t"
            type="button"
            role="tab"
            :aria-selected="tab === t"
            :data-test="`tab-${t}`"
            @click="tab = t"
          >
            {{ t }}
          </button>
          <span class="grow" />
          <v-btn v-if="session.mayEngineer" size="small" @click="file?.click()">Import a table</v-btn>
          <input ref="file" type="file" accept=".csv,.xlsx" hidden @change="importTable" />
        </div>
        <StageOutline
          v-if="tab === 'outline' && outline"
          v-model="text"
          v-model:chosen="chosen"
          :outline="outline"
          @line="editor?.goTo($event)"
        />
        <div v-else-if="tab === 'shapes'" class="stack">
          <template v-for="s in drawn" :key="s.line">
            <h2>{{ s.name }}</h2>
            <ShapePreview v-for="t in s.tracks ?? []" :key="t.column" v-model="text" :stage="s" :track="t" />
          </template>
          <p v-if="!drawn.length" class="muted">No stage plays a shape. Add a play stage in the outline.</p>
          <p v-else-if="playing.length > 1" class="muted">Choose another stage that plays in the outline.</p>
        </div>
        <RehearsalPanel
          v-else-if="tab === 'rehearsal'"
          :rehearsal="rehearsal"
          :busy="rehearsing"
          :stale="stale"
          :error="draftError"
          :sound="sound"
          :for-any="outline?.for === 'any'"
          :nameplates="nameplates"
          @rehearse="rehearse"
        />
        <RevisionsPanel v-else-if="tab === 'revisions' && stored" :name="name" :newest="stored.revision" />
        <p v-else class="muted">{{ text ? 'There is no revision yet.' : error ? '' : 'Asking the service …' }}</p>
      </div>
    </div>
  </div>
</template>

<style scoped>
.halves {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: var(--gap);
}
.left {
  display: flex;
  flex-direction: column;
  gap: 10px;
  height: calc(100vh - 130px);
  min-height: 420px;
  position: sticky;
  top: 12px;
}
.left > :first-child {
  flex: 1;
}
.right-side {
  min-width: 0;
  align-self: start;
}
.tabs {
  display: flex;
  gap: 4px;
  align-items: center;
  margin-bottom: 12px;
  border-bottom: 1px solid var(--line);
  padding-bottom: 6px;
}
.tabs > button {
  padding: 6px 12px;
  border-radius: 8px;
  text-transform: capitalize;
  color: var(--muted);
}
.tabs > button[aria-selected='true'] {
  background: var(--idle-fill);
  color: var(--ink);
  font-weight: 600;
}
.why {
  flex: 0 1 190px;
}
header h1,
header .muted {
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.good {
  color: var(--pass);
  font-weight: 550;
  white-space: nowrap;
}
.bad {
  color: var(--fail);
  font-weight: 600;
  white-space: nowrap;
}
.findings {
  list-style: none;
  margin: 0;
  padding: 8px 12px;
  max-height: 30vh;
  overflow: auto;
  border: 1px solid var(--fail);
  border-radius: 10px;
}
.findings button {
  text-align: left;
  padding: 3px 0;
  width: 100%;
}
@media (max-width: 1000px) {
  .halves {
    grid-template-columns: 1fr;
  }
  .left {
    position: static;
    height: 60vh;
  }
}
</style>
