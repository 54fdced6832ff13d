<script setup lang="ts">
import { ref, watch } from 'vue'

import { api, type Difference, type Procedure } from '../api'
import { dateTime } from '../parts/format'
import ProblemNote from '../parts/ProblemNote.vue'
import { useSession } from '../parts/session'

// Who changed what, when and why, and what a revision changed line by line.
const props = defineProps<{ name: string; newest: number }>()
const session = useSession()
const revisions = ref<Procedure[]>([])
const lines = ref<Difference[]>([])
const chosen = ref(0)
const error = ref<unknown>(null)
const signOf: Record<string, string> = { old: '− ', new: '+ ', same: '  ' }

watch(
  () => [props.name, props.newest],
  async () => {
    try {
      revisions.value = await api.revisions(props.name)
      error.value = null
    } catch (e) {
      error.value = e
    }
  },
  { immediate: true },
)

// A release is the state of a revision: operators run the newest released one.
const why = ref('')
async function release(r: Procedure, released: boolean) {
  try {
    const now = await api.releaseProcedure(props.name, { revision: r.revision, released, why: why.value.trim() })
    revisions.value = revisions.value.map((x) => (x.revision === now.revision ? now : x))
    why.value = ''
    error.value = null
  } catch (e) {
    error.value = e
  }
}

async function show(revision: number) {
  chosen.value = chosen.value === revision ? 0 : revision
  lines.value = []
  if (chosen.value < 2) return
  try {
    // Around each change a few lines are shown, so that one sees where it stands.
    const all = await api.difference(props.name, revision - 1, revision)
    const near = all.map((_, i) => all.slice(Math.max(i - 2, 0), i + 3).some((l) => l.kind !== 'same'))
    lines.value = all.filter((_, i) => near[i])
  } catch (e) {
    error.value = e
  }
}
</script>

<template>
  <div class="stack">
    <ProblemNote :error="error" />
    <table class="plain">
      <thead>
        <tr>
          <th>Revision</th>
          <th>By</th>
          <th>At</th>
          <th>Why</th>
          <th>State</th>
          <th v-if="session.mayEngineer" />
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in revisions" :key="r.revision" :class="{ on: r.revision === chosen }">
          <td>
            <button type="button" class="link" :disabled="r.revision < 2" @click="show(r.revision)">
              {{ r.revision }}
            </button>
          </td>
          <td>{{ r.by }}</td>
          <td>{{ dateTime(r.at) }}</td>
          <td class="muted">{{ r.why || '—' }}</td>
          <td>
            <template v-if="r.released"
              >● released<span class="muted"> by {{ r.released.by }}: {{ r.released.why }}</span></template
            ><span v-else class="muted">○ draft</span>
          </td>
          <td v-if="session.mayEngineer">
            <v-btn v-if="r.released" size="small" variant="text" @click="release(r, false)">Withdraw</v-btn>
            <v-btn
              v-else
              size="small"
              variant="text"
              :disabled="!why.trim()"
              data-test="release"
              @click="release(r, true)"
              >Release</v-btn
            >
          </td>
        </tr>
      </tbody>
    </table>
    <v-text-field
      v-if="session.mayEngineer"
      v-model="why"
      label="Why a revision is released, or no longer"
      name="release-why"
      density="compact"
      hide-details
    />
    <pre
      v-if="lines.length"
      class="difference"
      data-test="difference"
    ><span v-for="(l, i) in lines" :key="i" :class="l.kind">{{ signOf[l.kind] }}{{ l.text }}
</span></pre>
    <p v-else class="muted">Choose a revision to see what it changed.</p>
  </div>
</template>

<style scoped>
.link {
  text-decoration: underline;
  padding: 2px 8px;
}
.link:disabled {
  text-decoration: none;
}
.difference {
  font-size: 12.5px;
  overflow: auto;
  border: 1px solid var(--line);
  border-radius: 8px;
  padding: 8px 0;
}
.difference span {
  display: block;
  padding: 0 10px;
  white-space: pre;
}
.old {
  background: var(--fail-fill);
  color: var(--fail);
}
.new {
  background: var(--pass-fill);
  color: var(--pass);
}
</style>
