import { useEventListener } from '@vueuse/core'
import { getCurrentInstance, type DirectiveBinding, type ObjectDirective } from 'vue'

type Text = string | number | null | undefined
type Hook = (el: HTMLElement, binding: DirectiveBinding, vnode: object) => void
type Hooks = Record<'created' | 'beforeMount' | 'mounted' | 'unmounted', Hook>

/** How long the pointer rests before something is said, ms. */
const SHOW_AFTER = 450
/** The hooks look for overrides on a node; there are none. */
const VNODE = { props: {} }

function put(el: HTMLElement, { value }: DirectiveBinding<Text>) {
  if (value) el.dataset.tip = String(value)
  else delete el.dataset.tip
}

/** What an element means. It is only noted here: thousands of cells have one, and most are never pointed at. */
export const tip: ObjectDirective<HTMLElement, Text> = {
  created: put,
  updated: (el, binding) => binding.value !== binding.oldValue && put(el, binding),
}

/** Says what an element means while the pointer rests on it or the keyboard stands on it, by the library's tooltip. */
export function useTips() {
  const instance = getCurrentInstance()?.proxy ?? null
  let armed: { el: HTMLElement; text: string; hooks: Hooks } | null = null

  const bound = (text: string) =>
    ({
      instance,
      value: { value: text, showDelay: SHOW_AFTER, autoHide: true },
      modifiers: { bottom: true },
      arg: undefined,
      oldValue: undefined,
      dir: {},
    }) as unknown as DirectiveBinding

  function leave() {
    if (armed) armed.hooks.unmounted(armed.el, bound(armed.text), VNODE)
    armed = null
  }
  async function arm(target: EventTarget | null, enter: string) {
    const el = target instanceof Element ? target.closest<HTMLElement>('[data-tip]') : null
    const text = el?.dataset.tip ?? ''
    if (armed && armed.el === el && armed.text === text) return
    leave()
    if (!el) return
    const { default: Tooltip } = await import('primevue/tooltip')
    if (armed || !el.isConnected || !el.matches(':hover, :focus-visible')) return
    armed = { el, text, hooks: Tooltip as unknown as Hooks }
    for (const name of ['created', 'beforeMount', 'mounted'] as const)
      armed.hooks[name](el, bound(text), VNODE)
    el.dispatchEvent(new MouseEvent(enter))
  }
  useEventListener(document, 'pointerover', (event) => void arm(event.target, 'mouseenter'))
  useEventListener(document, 'focusin', (event) => void arm(event.target, 'mouseenter'))
  useEventListener(document, ['pointerdown', 'keydown'], leave)
}
