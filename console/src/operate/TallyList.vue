<script setup lang="ts">
import { computed } from 'vue'

import type { Tally } from '../api'

// The counts of a lot, or of a place since it was set up.
const props = defineProps<{ tally: Tally }>()
const yielded = computed(() => {
  const t = props.tally
  return t.units ? `${((100 * (t.passed + t.marginal)) / t.units).toFixed(1)} %` : '—'
})
</script>

<template>
  <dl data-test="tally">
    <div>
      <dt>units</dt>
      <dd>
        {{ tally.units }}<template v-if="tally.quantity"> of {{ tally.quantity }}</template>
      </dd>
    </div>
    <div>
      <dt>● pass</dt>
      <dd>{{ tally.passed }}</dd>
    </div>
    <div>
      <dt>▲ marginal</dt>
      <dd>{{ tally.marginal }}</dd>
    </div>
    <div>
      <dt>■ fail</dt>
      <dd>{{ tally.failed }}</dd>
    </div>
    <div>
      <dt>yield</dt>
      <dd>{{ yielded }}</dd>
    </div>
  </dl>
</template>

<style scoped>
dl {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 26px;
  margin: 0;
  font-variant-numeric: tabular-nums;
}
dt {
  font-size: 13px;
}
dd {
  margin: 0;
  font-size: 26px;
  font-weight: 650;
}
@media (max-width: 600px) {
  dl {
    gap: 4px 16px;
  }
  dd {
    font-size: 20px;
  }
}
</style>
