// vFocus puts the cursor into a field, or the focus on a button, as soon as it is there, and only then. What a browser
// or a component calls autofocus may come later, when a person is typing into another field already, whose letters it
// would steal; or not at all. A key that is still held down from before does not press the button.
export const vFocus = {
  mounted(el: HTMLElement) {
    const field = el.matches('input, textarea, button') ? el : el.querySelector<HTMLElement>('input, textarea')
    if (field instanceof HTMLButtonElement) field.addEventListener('keydown', (e) => e.repeat && e.preventDefault())
    field?.focus()
  },
}
