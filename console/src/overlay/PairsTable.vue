<script setup lang="ts">
import { computed } from 'vue'

import type { Overlay, OverlayPair, OverlaySide } from '../api'
import { uncertain } from '../parts/format'
import StateChip from '../parts/StateChip.vue'

// The figures of two runs beside each other, with their difference.
const props = defineProps<{ overlay: Overlay }>()

const serials = computed(() => {
  const first = props.overlay.curves[0]
  const second = props.overlay.curves.find((c) => c.run !== first?.run)
  return [first?.serial ?? 'first', second?.serial ?? 'second']
})
const pairs = computed(() => props.overlay.pairs ?? [])

function apart(p: OverlayPair): string {
  const sign = p.differs ? '●' : '○'
  return `${sign} ${(p.difference ?? 0) > 0 ? '+' : ''}${uncertain(p.difference ?? 0, p.u ?? 0, p.unit)}`
}

function side(s: OverlaySide, unit: string): string {
  if (s.value === null) return s.why ?? '—'
  return s.text ?? uncertain(s.value, s.u ?? 0, unit)
}
</script>

<template>
  <div class="panel scroll" data-test="pairs">
    <h2>Figures side by side</h2>
    <table class="plain">
      <thead>
        <tr>
          <th>figure</th>
          <th class="right">{{ serials[0] }}</th>
          <th class="right">{{ serials[1] }}</th>
          <th class="right">difference</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="p in pairs" :key="p.title">
          <td>
            <strong>{{ p.title }}</strong>
          </td>
          <td v-for="(s, i) in [p.first, p.second]" :key="i" class="right nowrap" :class="{ muted: s.value === null }">
            {{ side(s, p.unit) }}
            <StateChip v-if="s.outcome" :state="s.outcome" />
          </td>
          <td class="right nowrap" :class="{ muted: !p.differs }">
            <template v-if="p.difference !== null">{{ apart(p) }}</template>
            <template v-else>{{ p.differs ? '● not the same' : '—' }}</template>
          </td>
        </tr>
      </tbody>
    </table>
    <p class="muted">
      ● a true difference: 0 lies outside its 95 % interval, or the words differ. ○ nothing but error.
    </p>
  </div>
</template>
