<script setup lang="ts">
import { ref } from 'vue'
import { copyPlot } from './copy'
import { chartMenu } from './menu'

/** What every chart off the time axis has: caption, corner menu, keys, and its values as a table. */
const props = defineProps<{
  title: string
  /** Unit and offset of the vertical axis. */
  caption?: string
  note?: string
  said?: string
  head: string[]
  rows: (string | number | null)[][]
  svg: () => Promise<string>
}>()
const emit = defineEmits<{
  move: [along: number, to: number]
  point: [event: PointerEvent]
  leave: []
  choose: []
}>()
/** The canvas has an element of its own: what draws there empties it first. */
const host = ref<HTMLElement>()
defineExpose({ host })
const SAID = 40
const menu = (event: Event) =>
  (chartMenu.value = {
    event,
    items: copyPlot(host, props.svg, props.head, props.rows),
  })
</script>

<template>
  <figure>
    <figcaption>
      <span class="title">{{ title }}</span>
      <span v-if="caption" class="number">{{ caption }}</span>
      <span class="note">{{ said || note }}</span>
      <slot name="caption" />
      <button class="corner" aria-label="Take this chart" v-tip="'Copy as PNG, SVG or CSV'" @click="menu">
        ⋯
      </button>
    </figcaption>
    <slot name="labels" />
    <div
      class="host"
      tabindex="0"
      role="img"
      :aria-label="`${title}: ${said || rows.length + ' values; arrow keys read them'}`"
      @pointermove="emit('point', $event)"
      @pointerleave="emit('leave')"
      @blur="emit('leave')"
      @click="emit('choose')"
      @keydown.left.prevent="emit('move', -1, 0)"
      @keydown.right.prevent="emit('move', 1, 0)"
      @keydown.up.prevent="emit('move', 0, -1)"
      @keydown.down.prevent="emit('move', 0, 1)"
      @keydown.home.prevent="emit('move', -Infinity, 0)"
      @keydown.end.prevent="emit('move', Infinity, 0)"
      @keydown.enter="emit('choose')"
    >
      <div ref="host" class="canvas"></div>
      <slot />
    </div>
    <!-- Around the table, which would be as high as its rows and make the panel it stands in scroll. -->
    <div class="sr-only">
      <table>
        <caption>
          {{
            title
          }}{{
            rows.length > SAID ? `, the first ${SAID} of ${rows.length} values` : ''
          }}
        </caption>
        <tbody>
          <tr>
            <th v-for="each in head" :key="each" scope="col">{{ each }}</th>
          </tr>
          <tr v-for="(row, i) in rows.slice(0, SAID)" :key="i">
            <component :is="k ? 'td' : 'th'" v-for="(cell, k) in row" :key="k">{{ cell }}</component>
          </tr>
        </tbody>
      </table>
    </div>
  </figure>
</template>

<style scoped>
figure {
  position: relative;
  margin: 0;
  min-width: 0;
  min-height: 0;
  display: flex;
  flex-direction: column;
}
figcaption {
  display: flex;
  gap: 10px;
  font-size: 12px;
  color: var(--ink-2);
  white-space: nowrap;
}
.title,
.note {
  overflow: hidden;
  text-overflow: ellipsis;
}
.note {
  flex: 1 1000 0;
  text-align: right;
}
.corner {
  border: 0;
  background: none;
  color: var(--ink-2);
  padding: 0 2px;
  cursor: pointer;
  line-height: 1;
}
.host {
  flex: 1;
  min-height: 50px;
  position: relative;
}
.canvas {
  position: absolute;
  inset: 0;
}
</style>
