<script setup lang="ts">
import type { Shapes } from '../../api/client'
import { fixed } from '../../state/format'
import FactList from '../../widgets/FactList.vue'

/** Tests of residuals: whether each holds, and how sure that is. */
defineProps<{ caption: string; checks: Shapes['CheckView'][] }>()
</script>

<template>
  <FactList
    :caption="caption"
    :facts="
      checks.map((check) => ({
        name: check.what,
        value: `${check.holds ? 'holds' : 'does not hold'}, p ${fixed(check.p_value, 3)}`,
        hint: check.verdict,
        words: true,
        tone: check.holds ? ('better' as const) : ('worse' as const),
      }))
    "
  />
</template>
