import { api, type Bay } from '../api'

// answer answers what a run asks: words that were typed, the number of a choice, or yes with Enter alone.
export async function answer(bay: Bay, text: string): Promise<void> {
  const p = bay.prompt
  if (!p) return
  let reply = text
  if (p.form === 'confirm') reply = text === '' ? 'yes' : text
  else if (p.form === 'take') reply = text === '' ? 'take' : text
  else if (p.form === 'choice') reply = p.choice?.[Number(text) - 1] ?? text
  await api.intervene(bay.name, { do: 'answer', text: reply })
}
