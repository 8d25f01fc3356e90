<script setup lang="ts">
import Skeleton from 'primevue/skeleton'

/** The frame of a room while the project is read: Strip, lanes and inspector where they will be. */
</script>

<template>
  <div class="room" aria-busy="true" role="status" aria-label="Reading the project">
    <Skeleton height="86px" />
    <div class="below">
      <div class="lanes"><Skeleton height="45%" /><Skeleton height="55%" /></div>
      <Skeleton width="23%" height="100%" />
    </div>
  </div>
</template>

<style scoped>
.room {
  height: 100%;
  display: flex;
  flex-direction: column;
  gap: 22px;
  padding: 12px 16px;
}
.below {
  flex: 1;
  display: flex;
  gap: 12px;
}
.lanes {
  flex: 1;
  display: flex;
  flex-direction: column;
  gap: 6px;
}
</style>
