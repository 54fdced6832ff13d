<script setup lang="ts">
import { ref } from 'vue'

import { api, type Account } from '../api'
import ProblemNote from '../parts/ProblemNote.vue'
import { useRequest } from '../parts/request'

// Who may do what. A new password, another role or disabling withdraws what the account had at once.
type Role = Account['role']
const roles: Role[] = ['viewer', 'operator', 'engineer', 'admin']
const accounts = ref<Account[]>([])
const name = ref('')
const password = ref('')
const role = ref<Role>('operator')
const { error: failed, run: load } = useRequest(async () => {
  accounts.value = await api.accounts()
})
void load()
const {
  busy,
  error,
  run: change,
} = useRequest(async (ask: () => Promise<unknown>) => {
  await ask()
  await load()
})
async function add() {
  const fresh = { name: name.value.trim(), role: role.value, password: password.value }
  if (await change(() => api.addAccount(fresh))) name.value = password.value = ''
}
</script>

<template>
  <div class="panel rows" data-test="accounts">
    <h2>Accounts</h2>
    <ProblemNote :error="failed ?? error" />
    <div v-for="a in accounts" :key="a.name" class="row">
      <strong class="name" :class="{ muted: a.disabled }">{{ a.name }}</strong>
      <v-select
        :model-value="a.role"
        :items="roles"
        density="compact"
        hide-details
        label="Role"
        :disabled="busy"
        @update:model-value="(r: Role) => change(() => api.changeAccount(a.name, { role: r }))"
      />
      <v-btn
        size="small"
        variant="text"
        :disabled="busy"
        @click="change(() => api.changeAccount(a.name, { disabled: !a.disabled }))"
        >{{ a.disabled ? 'Enable' : 'Disable' }}</v-btn
      >
    </div>
    <form class="row" @submit.prevent="add">
      <v-text-field v-model="name" label="New account" name="new-name" hide-details density="compact" />
      <v-select v-model="role" :items="roles" label="Role" hide-details density="compact" />
      <v-text-field
        v-model="password"
        label="Password"
        type="password"
        autocomplete="new-password"
        hide-details
        density="compact"
      />
      <v-btn type="submit" :disabled="!name.trim() || !password" :loading="busy">Add</v-btn>
    </form>
  </div>
</template>

<style scoped>
.name {
  flex: 1;
  overflow-wrap: anywhere;
}
</style>
