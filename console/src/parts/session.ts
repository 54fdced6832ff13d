import { defineStore } from 'pinia'
import { computed, ref } from 'vue'

import { type Account, api } from '../api'
import { loadCatalogue } from './catalogue'

const rank = { viewer: 1, operator: 2, engineer: 3, admin: 4 } as const

// useSession knows who is signed in.
export const useSession = defineStore('session', () => {
  const account = ref<Account | null>(null)
  const may = (role: keyof typeof rank) =>
    computed(() => account.value !== null && rank[account.value.role] >= rank[role])

  async function load(): Promise<boolean> {
    try {
      const [me] = await Promise.all([api.me(), loadCatalogue()])
      account.value = me
    } catch {
      account.value = null
    }
    return account.value !== null
  }
  async function signOut() {
    await api.signOut()
    account.value = null
  }
  return { account, mayOperate: may('operator'), mayEngineer: may('engineer'), load, signOut }
})
