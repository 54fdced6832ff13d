import { ref } from 'vue'

// useRequest is one thing that is asked of the service: whether it is under way, and what went wrong the last time.
// Requests of different things share nothing: the end of one must not close what another has opened. Of several
// requests of the same thing only the newest speaks. run tells whether it went well.
export function useRequest<A extends unknown[]>(ask: (...args: A) => Promise<unknown>) {
  const busy = ref(false)
  const error = ref<unknown>(null)
  let newest = 0

  async function run(...args: A): Promise<boolean> {
    const mine = ++newest
    busy.value = true
    error.value = null
    try {
      await ask(...args)
      return true
    } catch (e) {
      if (mine === newest) error.value = e
      return false
    } finally {
      if (mine === newest) busy.value = false
    }
  }
  return { busy, error, run }
}
