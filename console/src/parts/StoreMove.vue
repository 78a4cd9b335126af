<script setup lang="ts">
import { NButton, NSelect } from 'naive-ui'
import { computed, onUnmounted, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { size } from '@/format'

// Brings all that is in a store to another while the service runs: first what that would be, then how far it is.
const props = defineProps<{ from: string; stores: string[] }>()
const emit = defineEmits<{ close: []; moved: [] }>()
const to = ref<string | null>(null)
const move = ref<Schemas['StoreMove']>()
const wrong = ref('')
const others = computed(() => props.stores.filter((s) => s !== props.from).map((s) => ({ label: s, value: s })))
const at = `/stores/${encodeURIComponent(props.from)}/move`
let timer = 0
onUnmounted(() => clearTimeout(timer))

async function ask(method: string, body?: Schemas['StoreMoveAsked']) {
  wrong.value = ''
  clearTimeout(timer)
  try {
    move.value = await call<Schemas['StoreMove']>(method, at, body)
    if (move.value.phase === 'copying' || move.value.phase === 'closing') timer = window.setTimeout(() => void ask('GET'), 1000)
    if (move.value.phase === 'done') emit('moved')
  } catch (error) {
    wrong.value = sentence(error)
  }
}
const running = computed(() => move.value?.phase === 'copying' || move.value?.phase === 'closing')
</script>

<template>
  <section class="move" aria-label="Move a store">
    <p><b>{{ from }}</b> with all that is in it goes to <NSelect v-model:value="to" size="small" class="to" :disabled="running" :options="others" placeholder="another store" :input-props="{ 'aria-label': 'The other store' }" @update:value="(name: string) => ask('POST', { to: name, dry: true })" /> <button class="plain" @click="emit('close')">Close</button></p>
    <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
    <template v-if="move">
      <template v-if="move.phase === 'planned'">
        <p>{{ move.files.toLocaleString('en') }} files, {{ size(move.bytes) }}. Then these mounts lead there: {{ move.mountedBy?.join(', ') || 'none' }}<span v-if="(move.users ?? 0) > (move.mountedBy?.length ?? 0)"> and more</span>. What is in {{ from }} stays as it is.<span v-if="move.left"> {{ move.left }} names can't be brought.</span><span v-if="move.say"> Note that {{ move.say }}.</span></p>
        <NButton type="primary" size="small" @click="ask('POST', { to: move.to })">Move it</NButton>
      </template>
      <p v-else-if="running" role="status">{{ move.phase === 'closing' ? 'The last files are brought; nobody uses the store meanwhile.' : `${size(move.copiedBytes)} of ${size(move.bytes)} copied and verified.` }} <button class="plain" @click="ask('DELETE')">Stop</button></p>
      <p v-else role="status">{{ move.phase === 'done' ? `It is in ${move.to} now: ${move.copiedFiles.toLocaleString('en')} files copied and verified. The mounts lead there; ${from} stays as it was.` : `It has ended: ${move.say ?? ''}. The mounts are as they were.` }}</p>
    </template>
  </section>
</template>

<style scoped>
.move { padding: 10px 14px; border-top: 1px solid var(--line); }
.move p { margin: 0 0 8px; display: flex; gap: 10px; align-items: center; flex-wrap: wrap; }
.to { width: 180px; }
.wrong { color: var(--brick); }
</style>
