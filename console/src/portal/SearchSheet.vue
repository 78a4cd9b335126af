<script setup lang="ts">
import { nextTick, onMounted, onUnmounted, ref, shallowRef } from 'vue'
import { size } from '@/format'
import { join, lines, Refusal, type Found } from './calls'

const props = defineProps<{ path: string; begin: string }>()
const emit = defineEmits<{ reach: [found: Found]; gone: [] }>()
const text = ref(props.begin)
const found = shallowRef<Found[]>([])
const said = ref('')
const field = ref<HTMLInputElement>()
let stop = new AbortController()
onMounted(() => {
  void nextTick(() => field.value?.focus())
  if (text.value.trim()) void search()
})
onUnmounted(() => stop.abort())
async function search() {
  stop.abort()
  stop = new AbortController()
  found.value = []
  said.value = 'Searching…'
  try {
    await lines('/search?' + new URLSearchParams({ path: props.path, name: text.value }), (line) => {
      if (line.name) found.value = [...found.value, line]
      else said.value = `${found.value.length ? found.value.length : 'Nothing'} found in ${line.folders.toLocaleString('en')} folders${line.cut ? '; there may be more: search further down' : ''}.`
    }, stop.signal)
  } catch (error) {
    if (error instanceof Refusal && error.status === 401) emit('gone')
    else if ((error as Error).name !== 'AbortError') said.value = (error as Error).message
  }
}
</script>

<template>
  <section class="sheet search" aria-label="Search">
    <form @submit.prevent="search"><label>In the name<input ref="field" v-model="text" name="search" type="search" /></label><button class="first" :disabled="!text.trim()">Search</button></form>
    <p role="status" class="soft">{{ said }}</p>
    <ul v-if="found.length"><li v-for="f in found" :key="f.in + '/' + f.name"><button class="plain" @click="emit('reach', f)">{{ join(f.in, f.name) }}{{ f.kind === 'folder' ? '/' : '' }}</button><span class="soft">{{ f.kind === 'folder' ? '' : size(f.size) }}</span></li></ul>
  </section>
</template>

<style scoped>
.search { padding: 12px 14px; display: grid; gap: 8px; }
form { display: flex; gap: 10px; align-items: end; }
form label { flex: 1; }
p { margin: 0; }
ul { list-style: none; margin: 0; padding: 0; max-height: 300px; overflow: auto; }
li { display: flex; justify-content: space-between; gap: 12px; }
li button { text-align: left; overflow-wrap: anywhere; }
</style>
