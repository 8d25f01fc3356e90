import { definePreset } from '@primeuix/themes'
import base from '@primeuix/themes/aura/base'
import accordion from '@primeuix/themes/aura/accordion'
import checkbox from '@primeuix/themes/aura/checkbox'
import datepicker from '@primeuix/themes/aura/datepicker'
import dialog from '@primeuix/themes/aura/dialog'
import drawer from '@primeuix/themes/aura/drawer'
import inputnumber from '@primeuix/themes/aura/inputnumber'
import inputtext from '@primeuix/themes/aura/inputtext'
import listbox from '@primeuix/themes/aura/listbox'
import menu from '@primeuix/themes/aura/menu'
import multiselect from '@primeuix/themes/aura/multiselect'
import popover from '@primeuix/themes/aura/popover'
import progressbar from '@primeuix/themes/aura/progressbar'
import radiobutton from '@primeuix/themes/aura/radiobutton'
import select from '@primeuix/themes/aura/select'
import skeleton from '@primeuix/themes/aura/skeleton'
import slider from '@primeuix/themes/aura/slider'
import splitter from '@primeuix/themes/aura/splitter'
import tabs from '@primeuix/themes/aura/tabs'
import tag from '@primeuix/themes/aura/tag'
import textarea from '@primeuix/themes/aura/textarea'
import toast from '@primeuix/themes/aura/toast'
import tooltip from '@primeuix/themes/aura/tooltip'
import virtualscroller from '@primeuix/themes/aura/virtualscroller'
import iconfield from '@primeuix/themes/aura/iconfield'
import ripple from '@primeuix/themes/aura/ripple'
import { useDark, useToggle } from '@vueuse/core'
import { ref, watch } from 'vue'

/** PrimeVue's preset from our own tokens, so that no stock colour ever shows. */
const scale = (from: string, to: string) =>
  Object.fromEntries(
    [50, 100, 200, 300, 400, 500, 600, 700, 800, 900, 950].map((step) => [
      step,
      `color-mix(in srgb, var(${from}) ${100 - step / 9.5}%, var(${to}))`,
    ]),
  )
const surface = { 0: 'var(--panel)', ...scale('--panel', '--ink') }
const scheme = {
  surface,
  primary: {
    color: 'var(--ink)',
    contrastColor: 'var(--panel)',
    hoverColor: 'var(--ink)',
    activeColor: 'var(--ink)',
  },
  highlight: {
    background: 'var(--selection)',
    focusBackground: 'var(--selection)',
    color: 'var(--ink)',
    focusColor: 'var(--ink)',
  },
  text: {
    color: 'var(--ink)',
    hoverColor: 'var(--ink)',
    mutedColor: 'var(--ink-2)',
    hoverMutedColor: 'var(--ink-2)',
  },
  content: {
    background: 'var(--panel)',
    hoverBackground: 'var(--selection)',
    borderColor: 'var(--hairline)',
    color: 'var(--ink)',
    hoverColor: 'var(--ink)',
  },
  formField: {
    background: 'var(--panel)',
    borderColor: 'var(--hairline)',
    hoverBorderColor: 'var(--ink-3)',
    focusBorderColor: 'var(--ink)',
    color: 'var(--ink)',
  },
  overlay: {
    select: { background: 'var(--panel)', borderColor: 'var(--ink-3)', color: 'var(--ink)' },
    popover: { background: 'var(--panel)', borderColor: 'var(--ink-3)', color: 'var(--ink)' },
    modal: { background: 'var(--panel)', borderColor: 'var(--ink-3)', color: 'var(--ink)' },
  },
}

/** Only what is in use: the rest of the library's tokens stays out of the page. */
const stock = {
  ...base,
  components: {
    accordion,
    checkbox,
    datepicker,
    dialog,
    drawer,
    iconfield,
    inputnumber,
    inputtext,
    listbox,
    menu,
    multiselect,
    popover,
    progressbar,
    radiobutton,
    ripple,
    select,
    skeleton,
    slider,
    splitter,
    tabs,
    tag,
    textarea,
    toast,
    tooltip,
    virtualscroller,
  },
}

export const preset = definePreset(stock, {
  primitive: { borderRadius: { none: '0', xs: '3px', sm: '3px', md: '3px', lg: '3px', xl: '3px' } },
  semantic: {
    transitionDuration: '0s',
    primary: scale('--panel', '--ink'),
    formField: { paddingX: '8px', paddingY: '4px', borderRadius: '3px', focusRing: { width: '0' } },
    overlay: {
      select: { shadow: 'none', borderRadius: '3px' },
      popover: { shadow: 'none', borderRadius: '3px' },
      modal: { shadow: 'none', borderRadius: '3px' },
    },
    colorScheme: { light: scheme, dark: scheme },
  },
})

export const night = useDark({
  attribute: 'data-theme',
  valueDark: 'night',
  valueLight: 'day',
  storageKey: 'proteron-theme',
  disableTransition: false, // there are none; to suppress them, the whole page would be laid out at its start
})
export const toggleTheme = useToggle(night)

/** Bumped when colours change, so that canvases redraw. */
export const themeVersion = ref(0)
watch(night, () => requestAnimationFrame(() => (themeVersion.value += 1)))

/** A token's value now, for canvases. */
export function token(name: string): string {
  return getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim()
}

const DASHES: number[][] = [
  [],
  [7, 3],
  [2, 3],
  [8, 3, 2, 3],
  [12, 4],
  [4, 2],
  [2, 2, 6, 2],
  [10, 2, 2, 2, 2, 2],
]

export interface Mark {
  color: string
  css: string
  dash: number[]
}

/** A contender's colour and dash: learners by their order, baselines grey and dashed. */
export function markOf(names: { name: string; family: string }[], name: string): Mark {
  const learners = names.filter((each) => each.family !== 'baseline')
  const place = learners.findIndex((each) => each.name === name)
  if (place >= 0) {
    const slot = (place % 8) + 1
    return { color: token(`c${slot}`), css: `var(--c${slot})`, dash: DASHES[place % 8] ?? [] }
  }
  const naive = names.filter((each) => each.family === 'baseline').findIndex((each) => each.name === name)
  return {
    color: token('ink-3'),
    css: 'var(--ink-3)',
    dash: [
      [4, 3],
      [2, 2],
      [8, 3],
      [6, 2, 2, 2],
      [1, 3],
    ][Math.max(naive, 0) % 5] ?? [4, 3],
  }
}
