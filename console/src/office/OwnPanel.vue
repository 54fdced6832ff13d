<script setup lang="ts">
import { ref } from 'vue'

import { api, type Token } from '../api'
import ProblemNote from '../parts/ProblemNote.vue'
import { dateTime } from '../parts/format'
import { useRequest } from '../parts/request'

// One's own password, and the tokens that were given out.
const before = ref('')
const next = ref('')
const done = ref(false)
const tokens = ref<Token[]>([])
const { error: failed, run: load } = useRequest(async () => {
  tokens.value = await api.tokens()
})
void load()
const {
  busy,
  error,
  run: change,
} = useRequest(async () => {
  await api.changePassword({ old: before.value, new: next.value })
  before.value = next.value = ''
  done.value = true
})
const { error: refused, run: revoke } = useRequest(async (id: string) => {
  await api.revokeToken(id)
  await load()
})
</script>

<template>
  <div class="panel rows" data-test="own">
    <h2>My password and tokens</h2>
    <ProblemNote :error="failed ?? error ?? refused" />
    <form class="row" @submit.prevent="change()">
      <v-text-field
        v-model="before"
        label="Password"
        type="password"
        autocomplete="current-password"
        hide-details
        density="compact"
      />
      <v-text-field
        v-model="next"
        label="New one"
        type="password"
        autocomplete="new-password"
        hide-details
        density="compact"
      />
      <v-btn type="submit" :loading="busy" :disabled="!before || !next">Change</v-btn>
    </form>
    <p v-if="done && !error" class="muted" role="status">Changed: everything else that was signed in is signed out.</p>
    <div v-for="t in tokens" :key="t.id" class="row muted">
      <span class="grow"
        >{{ t.account }} · {{ t.kind }}<template v-if="t.label"> · {{ t.label }}</template></span
      >
      <span>until {{ dateTime(t.expiresAt) }}</span>
      <v-btn size="small" variant="text" :disabled="t.kind === 'local'" @click="revoke(t.id)">Revoke</v-btn>
    </div>
  </div>
</template>
