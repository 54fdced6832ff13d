import { effect, onScopeDispose, shallowRef, type Ref } from 'vue'

// A picture takes at most one part of the page's time in so many, so that keys and clicks are heard. Where a page was
// not looked at, it seems to have taken long: mostCost bounds that, ms.
const share = 4
const mostCost = 1000

// paced gives what a picture is drawn from, as often as it can be drawn: at once where the page has time, else the
// newest a while later, and at most every least ms. It is computed only then. What a picture costs is known when it is
// on the screen and the browser comes to something else.
export function paced<T>(value: Readonly<Ref<T>>, least: () => number): Readonly<Ref<T>> {
  const given = shallowRef(value.value) as Ref<T>
  let timer = 0
  let drawing = false
  let stale = false
  let gave = performance.now()
  let cost = 0

  const give = effect(() => void (given.value = value.value), {
    scheduler() {
      stale = true
      if (!drawing) later()
    },
  })
  function later() {
    drawing = true
    const wait = Math.max(least(), (share - 1) * cost) - (performance.now() - gave)
    timer = window.setTimeout(draw, Math.max(wait, 0))
  }
  function draw() {
    stale = false
    gave = performance.now()
    give()
    requestAnimationFrame(() => {
      timer = window.setTimeout(drawn)
    })
  }
  function drawn() {
    cost = Math.min(performance.now() - gave, mostCost)
    drawing = false
    if (stale) later()
  }
  onScopeDispose(() => clearTimeout(timer))
  return given
}
