<script setup lang="ts">
import { computed, onUnmounted, ref } from 'vue'

import { api, type FirstStep } from '../api'
import { useLive } from '../parts/live'

// From an empty house to a first run: what is done, and one button for what comes next. It is gone after that run.
const steps = ref<FirstStep[]>([])
const next = computed(() => steps.value.find((s) => !s.done))
const load = () =>
  void api.firstSteps().then(
    (s) => {
      steps.value = s
    },
    () => undefined,
  )
load()
onUnmounted(useLive().listen({ run: load, gap: load }))
</script>

<template>
  <section v-if="next" class="panel" data-test="first-steps">
    <h2>First steps</h2>
    <ol>
      <li v-for="s in steps" :key="s.step" :class="{ done: s.done, next: s === next }">
        <span class="sign" :aria-label="s.done ? 'done' : 'to do'">{{ s.done ? '●' : '○' }}</span>
        <div>
          <strong>{{ s.step }}</strong> <span class="muted">{{ s.about }}</span>
          <div v-if="s === next" class="how">
            <v-btn size="small" color="primary" variant="flat" :to="{ name: s.place }" data-test="first-step"
              >{{ s.step }}: begin</v-btn
            >
            <code>{{ s.command }}</code>
          </div>
        </div>
      </li>
    </ol>
  </section>
</template>

<style scoped>
ol {
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  gap: 10px;
}
li {
  display: grid;
  grid-template-columns: 20px minmax(0, 1fr);
}
.done {
  color: var(--muted);
}
.done .sign {
  color: var(--pass);
}
.how {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 14px;
  align-items: center;
  margin-top: 6px;
}
code {
  overflow-wrap: anywhere;
}
</style>
