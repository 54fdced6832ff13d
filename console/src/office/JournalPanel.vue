<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'

import { api, type JournalEntry } from '../api'
import ProblemNote from '../parts/ProblemNote.vue'

// What was done, by whom, to what.
const filter = reactive({ by: '', bay: '', what: '', since: '', until: '' })
const entries = ref<JournalEntry[]>([])
const error = ref<unknown>(null)
const chosen = computed(() =>
  Object.fromEntries(
    Object.entries(filter)
      .filter(([, v]) => v)
      .map(([k, v]) => [k, k === 'since' || k === 'until' ? new Date(v).toISOString() : v]),
  ),
)
let newest = 0
async function load() {
  const mine = ++newest
  try {
    const got = await api.journal({ ...chosen.value, limit: '200' })
    if (mine !== newest) return
    entries.value = got
    error.value = null
  } catch (e) {
    if (mine === newest) error.value = e
  }
}
let timer = 0
watch(
  filter,
  () => {
    clearTimeout(timer)
    timer = window.setTimeout(() => void load(), 250)
  },
  { immediate: true },
)
const at = (t: string) => new Date(t).toLocaleString('en-GB')
</script>

<template>
  <div class="panel scroll" data-test="journal">
    <div class="head">
      <h2>Journal</h2>
      <span class="grow" />
      <v-btn size="small" :href="api.journalURL(chosen)">CSV</v-btn>
    </div>
    <div class="filters">
      <v-text-field v-model="filter.by" label="By" name="journal-by" hide-details density="compact" />
      <v-text-field v-model="filter.bay" label="Bay" hide-details density="compact" />
      <v-text-field v-model="filter.what" label="What" hide-details density="compact" />
      <v-text-field v-model="filter.since" type="date" label="Since" hide-details density="compact" />
      <v-text-field v-model="filter.until" type="date" label="Until" hide-details density="compact" />
    </div>
    <ProblemNote :error="error" />
    <table class="plain">
      <thead>
        <tr>
          <th>at</th>
          <th>by</th>
          <th>bay</th>
          <th>what</th>
          <th>detail</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="e in entries" :key="e.id">
          <td class="nowrap">{{ at(e.at) }}</td>
          <td>{{ e.by }}</td>
          <td>{{ e.bay || '—' }}</td>
          <td class="nowrap">{{ e.what }}</td>
          <td class="muted detail">
            <router-link v-if="e.run" :to="{ name: 'run', params: { run: e.run } }">run</router-link> {{ e.detail }}
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="!entries.length && !error" class="muted">Nothing of the kind was done.</p>
  </div>
</template>

<style scoped>
.head {
  display: flex;
  align-items: center;
}
.filters {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(140px, 1fr));
  gap: 10px;
  margin-bottom: 10px;
}
.nowrap {
  white-space: nowrap;
}
.detail {
  overflow-wrap: anywhere;
}
</style>
