<script setup lang="ts">
import { computed } from 'vue'

import { catalogue } from './catalogue'
import { partOf, quantityOf, reading, seatOf, unitOf } from './format'

// What an instrument reads in parts: phases beside each other, the sides of a quantity, and its harmonics by order.
const props = defineProps<{ seat: string; readings: Record<string, number | null>; fresh: boolean }>()

const harmonic = /^(?:(\d)\.)?h(\d+)$/
const sideWords: Record<string, string> = { ac: 'AC', dc: 'DC', peak: 'peak', agreed: 'agreed' }
const place = /^o(\d+)$/
const headWords = (part: string) =>
  part
    .split('.')
    .map((w) => sideWords[w] ?? w.replace(place, 'place $1'))
    .map((w) => (/^\d+$/.test(w) ? `phase ${w}` : w))
    .join(' ')
// A source object is read by its bits; a place in which nothing is offered is empty.
const shown = (column: string) => {
  const x = value(column)
  if (!place.test(partOf(column)) || x === null || x === undefined) return `${reading(column, x)} ${unitOf(column)}`
  return x === 0 ? '—' : `0x${x.toString(16).toUpperCase().padStart(8, '0')}`
}

const columns = computed(() => Object.keys(props.readings).filter((c) => seatOf(c) === props.seat && partOf(c)))
const inOrder = (names: string[]) => catalogue.quantities.map((q) => q.name).filter((n) => names.includes(n))
const value = (column: string) => (props.fresh ? props.readings[column] : null)

const plain = computed(() => columns.value.filter((c) => !harmonic.test(partOf(c))))
const heads = computed(() => [...new Set(plain.value.map(partOf))].sort())
const rows = computed(() => inOrder(plain.value.map(quantityOf)))

const spectra = computed(() => {
  const found = new Map<string, { name: string; orders: Map<number, string> }>()
  for (const column of columns.value) {
    const m = harmonic.exec(partOf(column))
    if (!m) continue
    const name = quantityOf(column) + (m[1] ? `, phase ${m[1]}` : '')
    const row = found.get(name) ?? { name, orders: new Map<number, string>() }
    row.orders.set(Number(m[2]), column)
    found.set(name, row)
  }
  return [...found.values()]
})
const orders = computed(() => [...new Set(spectra.value.flatMap((s) => [...s.orders.keys()]))].sort((a, b) => a - b))
</script>

<template>
  <div v-if="columns.length" class="parts" data-test="parts">
    <table v-if="rows.length">
      <thead>
        <tr>
          <th />
          <th v-for="h in heads" :key="h" class="right">{{ headWords(h) }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="q in rows" :key="q">
          <th>{{ q }}</th>
          <td v-for="h in heads" :key="h" class="right">
            <template v-if="`${seat}.${q}.${h}` in readings">{{ shown(`${seat}.${q}.${h}`) }}</template>
          </td>
        </tr>
      </tbody>
    </table>
    <table v-if="spectra.length">
      <thead>
        <tr>
          <th>harmonic</th>
          <th v-for="n in orders" :key="n" class="right">{{ n }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="s in spectra" :key="s.name">
          <th>{{ s.name }}</th>
          <td v-for="n in orders" :key="n" class="right">
            <template v-if="s.orders.has(n)">{{ reading(s.orders.get(n)!, value(s.orders.get(n)!)) }}</template>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.parts {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 28px;
  max-width: 100%;
  overflow-x: auto;
  font-size: 13px;
  font-variant-numeric: tabular-nums;
}
th {
  text-align: left;
  font-weight: 500;
  color: var(--muted);
  white-space: nowrap;
}
td,
th {
  padding: 1px 12px 1px 0;
}
td {
  white-space: nowrap;
}
.right {
  text-align: right;
}
</style>
