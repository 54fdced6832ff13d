<script setup lang="ts">
import { nextTick, onMounted, onUnmounted, ref, useTemplateRef, watch } from 'vue'

// The places of the console. Where they do not fit beside one another the bar scrolls, and an arrow says that there is
// more on that side; the place where one is stays in view.
const props = defineProps<{ places: { name: string; title: string; note: string; on: boolean }[] }>()
const bar = useTemplateRef<HTMLElement>('bar')
const before = ref(false)
const after = ref(false)

function look() {
  const b = bar.value
  if (!b) return
  before.value = b.scrollLeft > 4
  after.value = b.scrollLeft + b.clientWidth < b.scrollWidth - 4
}
const go = (to: number) => bar.value?.scrollBy({ left: to * bar.value.clientWidth * 0.7, behavior: 'smooth' })

let observer: ResizeObserver | undefined
onMounted(() => {
  observer = new ResizeObserver(look)
  if (bar.value) observer.observe(bar.value)
})
onUnmounted(() => observer?.disconnect())
watch(
  () => props.places.find((p) => p.on)?.name,
  async () => {
    await nextTick()
    bar.value?.querySelector('.on')?.scrollIntoView({ block: 'nearest', inline: 'center' })
    look()
  },
  { immediate: true },
)
</script>

<template>
  <div class="holder">
    <button v-if="before" type="button" class="more" aria-label="Earlier places" @click="go(-1)">‹</button>
    <div ref="bar" class="places" @scroll.passive="look">
      <router-link v-for="p in places" :key="p.name" :to="{ name: p.name }" class="place" :class="{ on: p.on }">
        {{ p.title }} <span>{{ p.note }}</span>
      </router-link>
    </div>
    <button v-if="after" type="button" class="more" aria-label="More places" data-test="more-places" @click="go(1)">
      ›
    </button>
  </div>
</template>

<style scoped>
.holder {
  min-width: 0;
}
.places {
  display: flex;
  flex-direction: column;
  gap: 2px;
}
.place {
  padding: 9px 12px;
  border-radius: 8px;
  color: var(--muted);
  text-decoration: none;
  display: flex;
  justify-content: space-between;
  gap: 8px;
  white-space: nowrap;
}
.place.on {
  background: var(--surface);
  color: var(--ink);
  font-weight: 600;
  box-shadow: inset 3px 0 0 var(--live-fill);
}
.more {
  display: none;
}
@media (max-width: 900px) {
  .holder {
    display: flex;
    flex: 1;
    align-items: center;
  }
  .places {
    flex: 1;
    min-width: 0;
    flex-direction: row;
    overflow-x: auto;
    scrollbar-width: none;
  }
  .place {
    padding: 9px 10px;
  }
  .place.on {
    box-shadow: inset 0 -3px 0 var(--live-fill);
  }
  .more {
    display: block;
    border: 0;
    background: none;
    color: var(--ink);
    font: inherit;
    font-size: 22px;
    line-height: 1;
    padding: 8px 10px;
  }
}
@media (prefers-reduced-motion: reduce) {
  .places {
    scroll-behavior: auto;
  }
}
</style>
