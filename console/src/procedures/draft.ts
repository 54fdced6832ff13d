import { onUnmounted, ref, shallowRef, watch, type Ref } from 'vue'

import { api, type Outline, type Rehearsal } from '../api'

const pause = 300

// useDraft keeps the outline of a text that is being written, and its rehearsal when it is asked for.
export function useDraft(text: Ref<string>) {
  const outline = shallowRef<Outline | null>(null)
  const rehearsal = shallowRef<Rehearsal | null>(null)
  const rehearsing = ref(false)
  const error = ref<unknown>(null)
  // stale is true while the rehearsal is of an earlier text.
  const stale = ref(false)
  let timer = 0
  let turn = 0

  async function outlined() {
    const mine = ++turn
    try {
      const o = await api.outline({ text: text.value })
      if (mine === turn) {
        outline.value = o
        error.value = null
      }
    } catch (e) {
      if (mine === turn) error.value = e
    }
  }

  watch(text, () => {
    stale.value = rehearsal.value !== null
    clearTimeout(timer)
    timer = window.setTimeout(() => void outlined(), pause)
  })
  onUnmounted(() => clearTimeout(timer))

  async function rehearse(fault: string, nameplate?: string) {
    rehearsing.value = true
    error.value = null
    const asked = text.value
    try {
      rehearsal.value = await api.rehearse({
        text: asked,
        ...(fault ? { fault } : {}),
        ...(nameplate ? { nameplate } : {}),
      })
      stale.value = asked !== text.value
    } catch (e) {
      error.value = e
    } finally {
      rehearsing.value = false
    }
  }

  return { outline, rehearsal, rehearsing, stale, error, outlined, rehearse }
}
