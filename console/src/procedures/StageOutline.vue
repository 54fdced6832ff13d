<script setup lang="ts">
import { ref } from 'vue'

import type { Outline } from '../api'
import { withStage } from './document'
import { seconds } from '../parts/format'
import { snippets } from './snippets'
import StageForm from './StageForm.vue'

// The stages of a procedure in order. The chosen one shows its form.
defineProps<{ outline: Outline }>()
const text = defineModel<string>({ required: true })
const chosen = defineModel<number>('chosen', { required: true })
const emit = defineEmits<{ line: [line: number] }>()
const adding = ref(false)

function choose(i: number, line: number) {
  chosen.value = i === chosen.value ? -1 : i
  emit('line', line)
}
function add(stage: string) {
  text.value = withStage(text.value, stage)
  adding.value = false
}
</script>

<template>
  <div class="stack outline">
    <ol>
      <li v-for="(s, i) in outline.stages" :key="i" :class="{ on: i === chosen }">
        <button
          type="button"
          :style="{ paddingLeft: `${8 + 16 * s.path.length}px` }"
          :aria-expanded="i === chosen"
          @click="choose(i, s.line)"
        >
          <span class="kind">{{ s.kind }}</span><span class="name">{{ s.name }}</span>
          <span class="words muted">{{ s.words }}</span><span class="grow" />
          <span v-if="s.duration" class="muted nowrap">{{ seconds(s.duration) }}</span>
        </button>
        <StageForm v-if="i === chosen" v-model="text" :line="s.line" class="inside" />
      </li>
    </ol>
    <div>
      <v-btn size="small" data-test="add-stage" @click="adding = !adding">Add a stage</v-btn>
      <div v-if="adding" class="kinds">
        <button v-for="s in snippets" :key="s.kind" type="button" :title="s.about" @click="add(s.text)">
          <strong>{{ s.kind }}</strong> <span class="muted">{{ s.about }}</span>
        </button>
      </div>
    </div>
    <div v-if="outline.parameters.length">
      <h2>Parameters</h2>
      <table class="plain">
        <tbody>
          <tr v-for="p in outline.parameters" :key="p.name">
            <td>{{ p.name }}</td>
            <td class="right">{{ p.value }}</td>
            <td class="muted">{{ p.about }}{{ p.adjustable ? ' · adjustable' : '' }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <div v-if="outline.guards.length">
      <h2>Guards</h2>
      <p v-for="g in outline.guards" :key="g" class="guard">{{ g }}</p>
    </div>
  </div>
</template>

<style scoped>
ol {
  list-style: none;
  margin: 0;
  padding: 0;
  min-width: 0;
}
.outline {
  grid-template-columns: minmax(0, 1fr);
}
li {
  border-bottom: 1px solid color-mix(in srgb, var(--line) 60%, transparent);
}
li.on {
  background: color-mix(in srgb, var(--idle-fill) 50%, transparent);
}
li > button {
  display: flex;
  gap: 10px;
  width: 100%;
  padding: 7px 8px;
  text-align: left;
  align-items: baseline;
  min-width: 0;
  overflow: hidden;
}
.kind {
  width: 68px;
  flex: none;
  color: var(--muted);
  font-size: 12px;
}
.name {
  font-weight: 600;
  white-space: nowrap;
}
.words {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  min-width: 0;
}
.nowrap {
  white-space: nowrap;
}
.inside {
  padding: 4px 10px 12px;
}
.kinds {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(220px, 1fr));
  gap: 2px 14px;
  padding-top: 8px;
}
.kinds button {
  text-align: left;
  padding: 4px 6px;
  border-radius: 6px;
}
.kinds button:hover {
  background: var(--idle-fill);
}
.guard {
  overflow-wrap: anywhere;
}
</style>
