<script setup lang="ts">
import { computed } from 'vue'

import { useSession } from '../parts/session'
import AccountsPanel from './AccountsPanel.vue'
import JournalPanel from './JournalPanel.vue'
import LookPanel from './LookPanel.vue'
import OwnPanel from './OwnPanel.vue'
import ToldPanel from './ToldPanel.vue'

// What is for the whole house: how reports look, who is told, who may do what, and what was done.
const session = useSession()
const admin = computed(() => session.account?.role === 'admin')
</script>

<template>
  <div class="page">
    <header><h1>Office</h1></header>
    <div class="halves">
      <div class="stack">
        <LookPanel :disabled="!admin" />
        <ToldPanel :disabled="!admin" />
      </div>
      <div class="stack">
        <AccountsPanel v-if="admin" />
        <OwnPanel />
      </div>
    </div>
    <JournalPanel />
  </div>
</template>

<style scoped>
.halves {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(360px, 1fr));
  gap: var(--gap);
  align-items: start;
}
</style>
