import { shallowReactive } from 'vue'

import { api, type Catalogue } from '../api'

// What the service knows: quantities and kinds of seats, in the order in which people read them. It is fetched once,
// before anything is shown that needs it.
export const catalogue = shallowReactive<Catalogue>({ quantities: [], seats: [], stages: [], figures: [], units: [] })

export async function loadCatalogue(): Promise<void> {
  if (!catalogue.quantities.length) Object.assign(catalogue, await api.catalogue())
}

export const quantity = (name: string) => catalogue.quantities.find((q) => q.name === name)
// seatKind tells the kind of a seat: source2 is a source.
export const seatKind = (seat: string) => catalogue.seats.find((k) => k.name === seat.replace(/\d+$/, ''))
export const drains = (seat: string) => seatKind(seat)?.roles.includes('drains') ?? false
export const feeds = (seat: string) => seatKind(seat)?.roles.includes('feeds') ?? false
