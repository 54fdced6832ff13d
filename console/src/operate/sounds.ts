import type { UnitVerdict } from '../api'

// What each verdict sounds like: tones one after another, Hz and s. High and short is good, low and long is not.
const tunes: Record<UnitVerdict, [from: number, to: number, time: number][]> = {
  pass: [[1040, 1040, 0.14]],
  marginal: [
    [780, 780, 0.12],
    [1040, 1040, 0.12],
  ],
  fail: [
    [220, 220, 0.2],
    [220, 220, 0.2],
    [220, 220, 0.35],
  ],
  attention: [[660, 330, 0.5]],
}
const pause = 0.06

let context: AudioContext | null = null

// play sounds a verdict. A browser that allows no sound before a key was pressed stays silent.
export function play(verdict: UnitVerdict) {
  if (typeof AudioContext === 'undefined') return
  context ??= new AudioContext()
  void context.resume()
  let at = context.currentTime + 0.01
  for (const [from, to, time] of tunes[verdict]) {
    const tone = context.createOscillator()
    const volume = context.createGain()
    tone.frequency.setValueAtTime(from, at)
    tone.frequency.linearRampToValueAtTime(to, at + time)
    volume.gain.setValueAtTime(0, at)
    volume.gain.linearRampToValueAtTime(0.25, at + 0.01)
    volume.gain.setValueAtTime(0.25, at + time - 0.02)
    volume.gain.linearRampToValueAtTime(0, at + time)
    tone.connect(volume).connect(context.destination)
    tone.start(at)
    tone.stop(at + time)
    at += time + pause
  }
}
