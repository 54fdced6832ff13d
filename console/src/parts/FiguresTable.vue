<script setup lang="ts">
import type { Figure } from '../api'
import { limit, value } from './format'
import FigureTables from './FigureTables.vue'
import StateChip from './StateChip.vue'

defineProps<{ figures: Figure[] }>()
</script>

<template>
  <div class="scroll">
    <table class="plain cards" data-test="figures">
      <thead>
        <tr>
          <th>figure</th>
          <th>at</th>
          <th class="right">value ± U (95 %)</th>
          <th class="right">limit</th>
          <th>outcome</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(f, i) in figures" :key="i">
          <td class="name first">{{ f.title }}</td>
          <td class="muted">{{ f.where || '—' }}</td>
          <td class="right later">
            {{ value(f) }}
            <div v-if="f.undetermined" class="note">{{ f.undetermined.code }}: {{ f.undetermined.sentence }}</div>
            <div v-for="r in f.remarks" :key="r" class="note">{{ r }}</div>
          </td>
          <td class="right">{{ limit(f) }}</td>
          <td class="second"><StateChip v-if="f.outcome" :state="f.outcome" /><span v-else class="muted">—</span></td>
        </tr>
      </tbody>
    </table>
    <FigureTables :figures="figures" />
  </div>
</template>

<style scoped>
.name {
  font-weight: 600;
  white-space: nowrap;
}
.note {
  font-size: 12px;
  color: var(--muted);
  white-space: normal;
  max-width: 420px;
  margin-left: auto;
}
@media (max-width: 600px) {
  .note {
    margin-left: 0;
  }
}
</style>
