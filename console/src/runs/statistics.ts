import { ref, watch, type Ref } from 'vue'

import { api, type Statistic } from '../api'

// useStatistics tells what a run, or a capture of it, is between two cursors, once both are set.
export function useStatistics(
  run: () => string,
  cursors: Ref<[number | null, number | null]>,
  capture?: () => number | undefined,
) {
  const between = ref<Statistic[]>([])
  let asked = 0
  let timer = 0
  watch(cursors, ([a, b]) => {
    const ticket = ++asked
    clearTimeout(timer)
    between.value = []
    if (a === null || b === null || a === b) return
    timer = window.setTimeout(async () => {
      try {
        const got = await api.statistics(run(), Math.min(a, b), Math.max(a, b), capture?.())
        if (ticket === asked) between.value = got
      } catch {
        // the cursors tell their own values all the same
      }
    }, 150)
  })
  return between
}
