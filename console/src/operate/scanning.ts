import { nextTick, onUnmounted, ref, type Ref } from 'vue'

import { play } from './sounds'

// useScanning keeps the focus in the scan field, whatever was clicked, unless something else is typed into; and does
// one thing after another, in the order in which they were scanned or pressed: what comes while an answer is awaited is
// decided when that has come.
export function useScanning(field: Readonly<Ref<{ focus: () => void } | null>>) {
  const typed = ref('')
  const error = ref<unknown>(null)
  let before: Promise<void> = Promise.resolve()

  function focus() {
    void nextTick(() => {
      const elsewhere = document.activeElement?.closest('.v-overlay--active, form.set-up')
      if (!elsewhere) field.value?.focus()
    })
  }
  const refocus = window.setInterval(focus, 400)
  onUnmounted(() => clearInterval(refocus))

  function act(decide: () => Promise<void> | undefined): Promise<void> {
    before = before.then(async () => {
      error.value = null
      try {
        await decide()
      } catch (e) {
        error.value = e
        play('attention')
      } finally {
        focus()
      }
    })
    return before
  }

  // read gives what was typed, and clears the field.
  function read(): string {
    const text = typed.value.trim()
    typed.value = ''
    return text
  }
  return { typed, error, focus, act, read }
}
