// vFocus puts the cursor into a field as soon as it is there, and only then. What a browser or a component calls
// autofocus may come later, when a person is typing into another field already, whose letters it would steal.
export const vFocus = {
  mounted(el: HTMLElement) {
    const field = el.matches('input, textarea') ? el : el.querySelector<HTMLElement>('input, textarea')
    field?.focus()
  },
}
