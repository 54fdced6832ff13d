<script setup lang="ts">
import type { Bay } from '../api'

// How far a run is, as one bar a stage; the current one is wider and fills.
defineProps<{ bay: Bay }>()
</script>

<template>
  <div class="stages" aria-hidden="true">
    <template v-if="bay.progress && bay.stages">
      <i
        v-for="i in bay.stages.keys()"
        :key="i"
        :class="{ done: i < bay.progress.stage, now: i === bay.progress.stage }"
        :style="i === bay.progress.stage ? { '--share': `${(bay.progress.share * 100).toFixed(1)}%` } : {}"
      />
    </template>
    <template v-else><i v-for="i in 4" :key="i" :class="{ done: bay.run }" /></template>
  </div>
</template>

<style scoped>
.stages {
  display: flex;
  gap: 3px;
}
i {
  height: 6px;
  border-radius: 3px;
  background: var(--line);
  flex: 1;
}
i.done {
  background: var(--muted);
}
i.now {
  flex: 4;
  background: linear-gradient(90deg, var(--live-fill) var(--share), var(--line) var(--share));
}
</style>
