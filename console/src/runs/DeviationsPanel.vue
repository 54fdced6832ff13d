<script setup lang="ts">
import type { RunRehearsal } from '../api'
import { seconds } from '../parts/format'

// Where a run left what its rehearsal foretold for healthy units.
defineProps<{ rehearsal: RunRehearsal }>()
const emit = defineEmits<{ look: [from: number, to: number] }>()
</script>

<template>
  <div class="panel" data-test="deviations">
    <h2>Against the rehearsal</h2>
    <p v-if="!rehearsal.deviations.length" class="good">● The run lies where healthy units lie.</p>
    <table v-else class="plain">
      <tbody>
        <tr v-for="(d, i) in rehearsal.deviations" :key="i">
          <td class="nowrap">
            <button
              v-if="d.what === 'trace' || d.what === 'stage'"
              type="button"
              class="link"
              @click="emit('look', d.t0, d.t1)"
            >
              {{ seconds(d.t0) }} to {{ seconds(d.t1) }}</button
            ><span v-else class="muted">{{ d.what }}</span>
          </td>
          <td class="bad">{{ d.words }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.good {
  color: var(--pass);
  font-weight: 550;
}
.bad {
  color: var(--fail);
  overflow-wrap: anywhere;
}
.link {
  text-decoration: underline;
}
.nowrap {
  white-space: nowrap;
  width: 150px;
}
</style>
