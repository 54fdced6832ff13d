<script setup lang="ts">
import type { Bay } from '../api'
import { seconds } from '../parts/format'

// around words the stages that a stage stands in.
const around = (s: { path?: string[] } | undefined) => s?.path?.join(' › ') ?? ''
defineProps<{ bay: Bay; now: number; notes: { t: number; kind: string; label: string }[] }>()
</script>

<template>
  <div class="stack">
    <div v-if="bay.stages && bay.progress" class="panel">
      <h2>Stages</h2>
      <ul>
        <template v-for="(s, i) in bay.stages" :key="i">
          <li v-if="around(s) && around(s) !== around(bay.stages[i - 1])" class="around muted">{{ around(s) }}</li>
          <li :class="{ muted: i > bay.progress.stage, now: i === bay.progress.stage }">
            <span v-if="i < bay.progress.stage">✓</span>
            <span v-else-if="i === bay.progress.stage" class="dot">●</span>
            <span class="words">{{ s.name }}</span><span class="grow" />
            <span v-if="i === bay.progress.stage" class="amount wraps">{{
              bay.progress.detail || seconds(now - (s.began ?? now))
            }}</span>
            <span v-else-if="s.estimate && i > bay.progress.stage" class="amount">about {{ seconds(s.estimate) }}</span>
          </li>
        </template>
      </ul>
      <v-progress-linear
        :model-value="bay.progress.share * 100"
        color="#f3b33d"
        height="6"
        rounded
        class="mt-3"
        aria-label="Progress of the stage"
      />
      <p v-if="bay.progress.left > 0" class="muted mt-2">{{ seconds(bay.progress.left) }} to go</p>
    </div>
    <div v-if="bay.guards?.length" class="panel">
      <h2>Guards, distance to trip</h2>
      <ul>
        <li v-for="g in bay.guards" :key="g.words">
          <span class="words">{{ g.words }}</span><span class="grow" /><span class="amount">{{
            g.distance || '—'
          }}</span>
        </li>
      </ul>
    </div>
    <div v-if="notes.length" class="panel">
      <h2>Marks</h2>
      <ul>
        <li v-for="(m, i) in notes" :key="i">
          <span class="muted amount">{{ seconds(m.t) }}</span><span
            class="words"
            :class="{ alarm: m.kind === 'guard' }"
            >{{ m.label }}</span
          >
        </li>
      </ul>
    </div>
    <div class="panel">
      <h2>Seats</h2>
      <ul>
        <li v-for="s in bay.seats" :key="s.name">
          <span>{{ s.name }}</span><span class="grow" /><span class="muted"
            >{{ s.instrument }}, channel {{ s.channel }}</span
          >
        </li>
      </ul>
    </div>
  </div>
</template>

<style scoped>
ul {
  margin: 0;
  padding: 0;
  list-style: none;
}
li {
  display: flex;
  gap: 10px;
  padding: 5px 0;
  border-bottom: 1px solid color-mix(in srgb, var(--line) 60%, transparent);
  align-items: baseline;
}
li:last-child {
  border-bottom: 0;
}
.around {
  font-size: 12px;
  padding-top: 10px;
}
.now {
  font-weight: 620;
}
.dot {
  color: var(--live);
}
.words {
  min-width: 0;
  overflow-wrap: anywhere;
}
.amount {
  white-space: nowrap;
  font-variant-numeric: tabular-nums;
}
.wraps {
  white-space: normal;
  text-align: right;
  max-width: 68%;
}
.alarm {
  color: var(--fail);
  font-weight: 600;
}
</style>
