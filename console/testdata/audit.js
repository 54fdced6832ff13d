// Looks a page over and tells what is wrong with it: an expression whose value is a list of words.
;(() => {
  const problems = []
  const shown = (el) => {
    const box = el.getBoundingClientRect()
    return box.width > 0 && box.height > 0 && el.checkVisibility({ opacityProperty: true, visibilityProperty: true })
  }
  const where = (el) =>
    [el.tagName.toLowerCase(), ...[...el.classList].slice(0, 3)].join('.') +
    (el.dataset?.test ? `[${el.dataset.test}]` : '') +
    ` "${(el.textContent || '').trim().slice(0, 40)}"`

  // Contrast, by WCAG 2.2: relative luminance, (L1 + 0.05) / (L2 + 0.05).
  const colour = (text) => {
    const n = (text.match(/-?[\d.]+(e-?\d+)?/g) || []).map(Number)
    const scale = text.startsWith('color(') ? 255 : 1
    return { r: n[0] * scale, g: n[1] * scale, b: n[2] * scale, a: n[3] ?? 1 }
  }
  const over = (top, ground) => ({
    r: top.r * top.a + ground.r * (1 - top.a),
    g: top.g * top.a + ground.g * (1 - top.a),
    b: top.b * top.a + ground.b * (1 - top.a),
    a: 1,
  })
  const luminance = (c) => {
    const part = (v) => ((v /= 255) <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4)
    return 0.2126 * part(c.r) + 0.7152 * part(c.g) + 0.0722 * part(c.b)
  }
  const ratio = (a, b) => {
    const [high, low] = [luminance(a), luminance(b)].sort((x, y) => y - x)
    return (high + 0.05) / (low + 0.05)
  }
  const ground = (el) => {
    const layers = []
    for (let e = el; e; e = e.parentElement) {
      const c = colour(getComputedStyle(e).backgroundColor)
      if (c.a > 0) layers.push(c)
      if (c.a === 1) break
    }
    return layers.reverse().reduce((below, c) => over(c, below), { r: 255, g: 255, b: 255, a: 1 })
  }
  const opacity = (el) => {
    let o = 1
    for (let e = el; e; e = e.parentElement) o *= Number(getComputedStyle(e).opacity)
    return o
  }
  const disabled = (el) =>
    el.closest('[disabled], [aria-disabled=true], .v-btn--disabled, .v-input--disabled, option, svg, script, style')
  const stands = (el, style, words) => {
    const c = colour(style.color)
    const behind = ground(el)
    const size = parseFloat(style.fontSize)
    const least = size >= 24 || (size >= 18.66 && Number(style.fontWeight) >= 700) ? 3 : 4.5
    const has = ratio(over({ ...c, a: c.a * opacity(el) }, behind), behind)
    if (has < least - 0.005) problems.push(`contrast ${has.toFixed(2)}, needs ${least}: ${words} in ${where(el)}`)
  }
  const seen = new Set()
  const walker = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT)
  for (let node = walker.nextNode(); node; node = walker.nextNode()) {
    const el = node.parentElement
    if (!node.textContent.trim() || seen.has(el) || disabled(el) || !shown(el)) continue
    seen.add(el)
    stands(el, getComputedStyle(el), 'text')
  }
  for (const field of document.querySelectorAll('input[placeholder], textarea[placeholder]')) {
    if (!field.value && shown(field) && !disabled(field))
      stands(field, getComputedStyle(field, '::placeholder'), 'placeholder')
  }

  // Names, and whether the keyboard gets there.
  const usable = 'a[href], button, input:not([type=hidden]), select, textarea, summary, [tabindex]:not([tabindex="-1"])'
  for (const el of document.querySelectorAll(usable)) {
    if (!shown(el)) continue
    const by = (el.getAttribute('aria-labelledby') || '').split(' ').map((id) => document.getElementById(id))
    const name = [
      el.getAttribute('aria-label'),
      ...by.map((l) => l?.textContent),
      ...[...(el.labels || [])].map((l) => l.textContent),
      el.title,
      el.value && el.type === 'submit' ? el.value : '',
      el.textContent,
    ].find((words) => words?.trim())
    if (!name) problems.push(`no name: ${where(el)} ${el.getAttribute('name') ?? ''}`)
  }
  for (const el of document.querySelectorAll('body *')) {
    const key = Object.getOwnPropertySymbols(el).find((s) => s.description === '_vei')
    const listens = key ? el[key] : null
    // Around a field a click only puts the cursor into it.
    if (!listens?.onClick || !shown(el) || el.matches('label') || el.querySelector('input, textarea, select')) continue
    if (!el.matches(usable)) problems.push(`cannot be reached with the keyboard: ${where(el)}`)
    else if (!el.matches('a, button, input, select, textarea, summary') && !listens.onKeydown)
      problems.push(`hears no key: ${where(el)}`)
  }

  // Nothing is cut off at the side, but what can be scrolled there.
  const width = document.documentElement.clientWidth
  const scrolls = (el) => el && (/(auto|scroll)/.test(getComputedStyle(el).overflowX) || scrolls(el.parentElement))
  for (const el of document.querySelectorAll('main *')) {
    if (el.getBoundingClientRect().right > width + 1 && shown(el) && !scrolls(el) && !el.closest('svg'))
      problems.push(`reaches ${Math.round(el.getBoundingClientRect().right - width)} px out of sight: ${where(el)}`)
  }
  if (document.documentElement.scrollWidth > width + 1) problems.push('the page moves sideways')
  return problems
})()
