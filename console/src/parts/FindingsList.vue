<script setup lang="ts">
import { computed } from 'vue'

import { api, type PreflightFinding } from '../api'

// What a preflight found: what blocks first, and what is fine folded away.
const props = defineProps<{ findings: PreflightFinding[] }>()
const signs = { blocks: '■', warns: '▲', fine: '●' } as const
const rank = { blocks: 0, warns: 1, fine: 2 } as const
const pressing = computed(() =>
  props.findings.filter((f) => f.verdict !== 'fine').sort((a, b) => rank[a.verdict] - rank[b.verdict]),
)
const fine = computed(() => props.findings.filter((f) => f.verdict === 'fine'))
</script>

<template>
  <div data-test="findings">
    <ul v-if="pressing.length">
      <li v-for="(f, i) in pressing" :key="i" :class="f.verdict">
        <span class="sign">{{ signs[f.verdict] }} {{ f.verdict }}</span>
        <span
          ><strong>{{ f.check }}</strong
          >: {{ f.what }}<span v-if="f.remedy" class="remedy">→ {{ f.remedy }}</span
          ><img
            v-if="f.connection"
            class="connection"
            :src="api.connectionURL(f.connection)"
            :alt="`Drawing: ${f.connection}`"
        /></span>
      </li>
    </ul>
    <p v-else class="muted">● Nothing stands in the way.</p>
    <details v-if="fine.length" :open="pressing.length === 0">
      <summary class="muted">{{ fine.length }} checks are fine</summary>
      <ul>
        <li v-for="(f, i) in fine" :key="i" class="fine">
          <span class="sign">● fine</span
          ><span
            ><strong>{{ f.check }}</strong
            >: {{ f.what
            }}<img
              v-if="f.connection"
              class="connection"
              :src="api.connectionURL(f.connection)"
              :alt="`Drawing: ${f.connection}`"
          /></span>
        </li>
      </ul>
    </details>
  </div>
</template>

<style scoped>
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  display: grid;
  grid-template-columns: 84px minmax(0, 1fr);
  gap: 10px;
  padding: 7px 0;
  border-bottom: 1px solid color-mix(in srgb, var(--line) 60%, transparent);
  overflow-wrap: anywhere;
}
li:last-child {
  border-bottom: 0;
}
.connection {
  display: block;
  width: 320px;
  max-width: 100%;
  margin-top: 8px;
  padding: 6px;
  border-radius: 8px;
  background: #fff;
}
.sign {
  font-weight: 620;
  white-space: nowrap;
}
.blocks .sign {
  color: var(--fail);
}
.warns .sign {
  color: var(--marginal);
}
.fine .sign {
  color: var(--pass);
  font-weight: 500;
}
.remedy {
  display: block;
  color: var(--muted);
  margin-top: 2px;
}
summary {
  cursor: pointer;
  padding: 6px 0;
}
</style>
