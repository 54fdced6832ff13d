// What a new stage of each kind begins as. Tab moves on to the next value by hand; nothing is filled in for a unit.
export const snippets: { kind: string; about: string; text: string }[] = [
  { kind: 'set', about: 'sets quantities, in a safe order', text: '- name: power up\n  set:\n    source: {volts: 48 V, amps: 1 A, output: on}\n  until: "load.volts > 1 V"\n  within: 5 s' },
  { kind: 'hold', about: 'keeps things as they are', text: '- name: hold\n  hold: {for: 10 s}' },
  { kind: 'rest', about: 'outputs off, still recording', text: '- name: rest\n  rest: {for: 10 min}' },
  { kind: 'grid', about: 'sweeps one or more quantities', text: '- name: map\n  grid:\n    over:\n      - {set: load.amps, from: 0.5 A, to: 4 A, steps: 8}\n    settle: 300 ms\n    average: 200 ms' },
  { kind: 'play', about: 'moves quantities along shapes', text: '- name: dip\n  play:\n    source.volts:\n      - hold 2 s at 48 V\n      - ramp to 40 V in 500 ms\n      - hold 1 s\n      - ramp to 48 V in 500 ms' },
  { kind: 'seek', about: 'steps until something happens', text: '- name: stops\n  seek: {set: source.volts, from: 40 V, to: 30 V, coarse: 500 mV, fine: 50 mV, dwell: 200 ms, until: "load.volts < 1 V"}' },
  { kind: 'charge', about: 'constant current, then constant voltage', text: '- name: fill\n  charge: {amps: 0.5 C, taper: 0.05 C, time: 5 h}' },
  { kind: 'discharge', about: 'to the cutoff', text: '- name: empty\n  discharge: {amps: 0.2 C, time: 8 h}' },
  { kind: 'acquire', about: 'takes readings into a row', text: '- name: at the end\n  acquire: {average: 500 ms}' },
  { kind: 'watch', about: 'records what others do', text: '- name: watch\n  watch: {for: 10 min}' },
  { kind: 'ask', about: 'asks the operator', text: '- name: ready\n  ask: {confirm: Is the unit clipped in}\n  within: 10 min' },
  { kind: 'signal', about: 'tells the operator', text: '- signal: {message: The test is over, sound: on}' },
  { kind: 'repeat', about: 'its stages again and again', text: '- name: cycles\n  repeat: {times: 3}\n  stages:\n    - hold: {for: 1 s}' },
  { kind: 'when', about: 'chooses by a condition', text: '- name: choose\n  when: "load.volts > 1 V"\n  stages:\n    - hold: {for: 1 s}' },
  { kind: 'use', about: "another procedure's stages", text: '- name: prelude\n  use: NAME' },
]

// Words that may stand as keys, for completion.
export const keys = ['procedure', 'title', 'for', 'needs', 'parameters', 'tables', 'derived', 'record', 'protect', 'guards', 'stages', 'figures', 'report', 'name', 'note', 'until', 'within',
  'else', 'tries', 'with', 'otherwise', 'over', 'settle', 'average', 'steps', 'values', 'from', 'to', 'order', 'spacing', 'coarse', 'fine', 'dwell', 'recovers', 'taper', 'cutoff', 'time',
  'step down', 'limit', 'figure', 'row', 'quantity', 'when', 'do', 'stable', 'window', 'band', 'every', 'on change', 'at least', 'columns', 'adjustable', 'confirm', 'number', 'choice', 'serial']
export const functions = ['rate', 'mean', 'min', 'max', 'delta', 'drop', 'rise', 'elapsed', 'stage.elapsed', 'charge', 'energy', 'stage.charge', 'stage.energy']
