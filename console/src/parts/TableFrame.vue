<script setup lang="ts">
import { onMounted, onUnmounted, ref } from 'vue'

// A table that scrolls within itself where the page is too narrow for it. What a cell cuts
// off is read whole by a click on it, or from its title.
defineProps<{ label: string }>()
const box = ref<HTMLElement>()
const over = ref(false) // then the keyboard must be able to scroll it
const aside = ref(false) // some of it lies to the right
const look = () => {
  aside.value = Boolean(box.value && box.value.scrollWidth > box.value.clientWidth + box.value.scrollLeft + 2)
  over.value = Boolean(box.value && (box.value.scrollWidth > box.value.clientWidth || box.value.scrollHeight > box.value.clientHeight))
}
const watcher = typeof ResizeObserver === 'undefined' ? undefined : new ResizeObserver(look)
onMounted(() => {
  watcher?.observe(box.value!)
  watcher?.observe(box.value!.firstElementChild!)
})
onUnmounted(() => watcher?.disconnect())

function unfold(event: MouseEvent) {
  const cell = (event.target as HTMLElement).closest<HTMLElement>('td.path, td.cut')
  if (cell && (cell.classList.contains('whole') || cell.scrollWidth > cell.clientWidth)) cell.classList.toggle('whole')
}
</script>

<template>
  <div>
    <div ref="box" class="scroll" :tabindex="over ? 0 : undefined" :role="over ? 'group' : undefined" :aria-label="over ? label : undefined" @click="unfold" @scroll.passive="look">
      <table :aria-label="label"><slot /></table>
    </div>
    <p v-if="aside" class="aside soft" aria-hidden="true">more columns to the right →</p>
  </div>
</template>

<style scoped>
.aside { margin: 0; padding: 2px 10px; text-align: right; font-size: 12px; }
</style>
