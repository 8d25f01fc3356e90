<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { attempt } from '../api/client'
import { useKept, type Named } from '../state/kept'
import { useProject } from '../state/project'

const store = useProject()
const router = useRouter()
const name = ref('')
const { restore } = useKept()

async function create() {
  if (!name.value.trim()) return
  const id = await attempt(() => store.create(name.value.trim()))
  if (id) await router.push({ name: 'intake', params: { project: id } })
}
</script>

<template>
  <div class="home">
    <h1>Projects</h1>
    <RouterLink
      v-for="each in store.list"
      :key="each.id"
      class="panel row"
      :to="{ name: 'walkforward', params: { project: each.id } }"
      >{{ each.name }}</RouterLink
    >
    <div v-for="each in store.deleted" :key="`gone ${each.id}`" class="gone second">
      <span>{{ each.name }}, deleted</span>
      <button class="link" :aria-label="`Restore ${each.name}`" @click="restore(each as Named)">
        Restore
      </button>
    </div>
    <form @submit.prevent="create">
      <InputText
        v-model="name"
        class="field"
        placeholder="Name of a new project"
        aria-label="Name of a new project"
      />
      <button class="button primary" :disabled="!name.trim()">Create</button>
    </form>
  </div>
</template>

<style scoped>
.home {
  width: 420px;
  margin: 60px auto;
  display: flex;
  flex-direction: column;
  gap: 8px;
}
.row {
  padding: 10px 12px;
  color: inherit;
  text-decoration: none;
  font-weight: 500;
}
.row:hover {
  background: var(--selection);
}
.gone {
  display: flex;
  justify-content: space-between;
  padding: 2px 12px;
}
form {
  display: flex;
  gap: 8px;
}
.field {
  flex: 1;
}
</style>
