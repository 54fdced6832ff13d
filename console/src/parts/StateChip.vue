<script setup lang="ts">
import { computed } from 'vue'

const props = defineProps<{ state: string }>()

// Word, shape and colour together, so that colour is never the only sign.
const signs: Record<string, string> = {
  live: '●',
  starting: '◐',
  ending: '◑',
  alarm: '■',
  idle: '○',
  pass: '●',
  marginal: '▲',
  fail: '■',
  aborted: '×',
  undetermined: '?',
  failed: '■',
  done: '○',
  attention: '◆',
  'open contact': '◆',
  'to do': '○',
}
const colors: Record<string, string> = {
  live: 'live',
  starting: 'live',
  ending: 'live',
  alarm: 'fail',
  pass: 'pass',
  marginal: 'marginal',
  fail: 'fail',
  failed: 'fail',
  aborted: 'fail',
}
const kind = computed(() => colors[props.state] ?? 'idle')
</script>

<template>
  <span class="chip" :class="kind">{{ signs[state] ?? '○' }} {{ state || 'no limits' }}</span>
</template>

<style scoped>
.chip {
  display: inline-flex;
  gap: 6px;
  align-items: center;
  border-radius: 99px;
  padding: 2px 10px;
  font-size: 12px;
  font-weight: 600;
  white-space: nowrap;
}
.live {
  background: color-mix(in srgb, var(--live-fill) 22%, transparent);
  color: var(--live);
}
.pass {
  background: var(--pass-fill);
  color: var(--pass);
}
.marginal {
  background: var(--marginal-fill);
  color: var(--marginal);
}
.fail {
  background: var(--fail-fill);
  color: var(--fail);
}
.idle {
  background: var(--idle-fill);
  color: var(--muted);
}
</style>
