<script setup lang="ts">
import Accordion from 'primevue/accordion'
import AccordionContent from 'primevue/accordioncontent'
import AccordionHeader from 'primevue/accordionheader'
import AccordionPanel from 'primevue/accordionpanel'
import { ref, watch } from 'vue'

/** A part that is folded until it is wanted; `open` unfolds it from outside. */
const props = defineProps<{ title: string; count?: number | string; open?: boolean }>()
const emit = defineEmits<{ toggle: [open: boolean] }>()
const shown = ref<string | null>(props.open ? 'part' : null)
watch(
  () => props.open,
  (now) => now && (shown.value = 'part'),
)
watch(shown, (now) => emit('toggle', now === 'part'))
</script>

<template>
  <Accordion v-model:value="shown" class="folded" lazy>
    <AccordionPanel value="part">
      <AccordionHeader>
        <span
          >{{ title }} <span v-if="count !== undefined" class="number second">{{ count }}</span></span
        >
      </AccordionHeader>
      <AccordionContent><slot /></AccordionContent>
    </AccordionPanel>
  </Accordion>
</template>
