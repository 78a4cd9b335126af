<script setup lang="ts">
import { onMounted, onUnmounted, ref, shallowRef } from 'vue'
import { day, size, visible } from '@/format'
import { base, call, parent, Refusal, type Binned } from './calls'

const emit = defineEmits<{ gone: []; changed: [] }>()
const items = shallowRef<Binned[]>([])
const said = ref('Reading…')
const wrong = ref('')
const emptying = ref(false)
const busy = ref(false)
// What is there by the name that something in the bin had: it can come back under another.
const taken = ref<{ id: string; name: string } | null>(null)

async function load() {
  try {
    items.value = (await call<{ items: Binned[] }>('GET', '/bin')).items
    said.value = items.value.length ? '' : 'The bin is empty.'
  } catch (error) {
    refuse(error)
  }
}
function refuse(error: unknown) {
  if (error instanceof Refusal && error.status === 401) emit('gone')
  else wrong.value = (error as Error).message
}
async function act(change: () => Promise<unknown>) {
  wrong.value = ''
  busy.value = true
  try {
    await change()
    taken.value = null
  } catch (error) {
    refuse(error)
  } finally {
    busy.value = emptying.value = false
  }
  await load()
  emit('changed')
}
const back = (b: Binned, name = '') =>
  act(() =>
    call('PUT', '/bin/' + b.id, { name }).catch((error) => {
      if (error instanceof Refusal && error.reason === 'already-there') {
        const [, stem, end] = /^(.+?)(\.[^.]*)?$/s.exec(base(b.path))!
        taken.value = { id: b.id, name: name || `${stem} (2)${end ?? ''}` }
        return Promise.reject(new Refusal(409, `${base(b.path)} is there already: put it back under another name`))
      }
      throw error
    }),
  ).then(() => undefined)
const empty = () =>
  act(async () => {
    for (const b of items.value) await call('DELETE', '/bin/' + b.id)
  })
onMounted(() => {
  addEventListener('binned', load)
  void load()
})
onUnmounted(() => removeEventListener('binned', load))
</script>

<template>
  <section class="sheet bin" aria-label="Bin">
    <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
    <p v-if="said" role="status" class="soft">{{ said }}</p>
    <ul v-if="items.length">
      <li v-for="b in items" :key="b.id">
        <span class="name">{{ visible(base(b.path)) }}{{ b.folder ? '/' : '' }}</span>
        <span class="soft">{{ visible(parent(b.path)) }}{{ b.folder ? '' : ' · ' + size(b.size) }} · goes on {{ day(b.until) }}</span>
        <form v-if="taken?.id === b.id" @submit.prevent="back(b, taken.name)"><input v-model="taken.name" name="again" aria-label="Another name" spellcheck="false" /><button class="first" :disabled="!taken.name || busy">Put back as that</button></form>
        <span v-else class="deeds"><button :disabled="busy" :aria-label="'Put back ' + base(b.path)" @click="back(b)">Put back</button><button :disabled="busy" :aria-label="'Delete for good ' + base(b.path)" @click="act(() => call('DELETE', '/bin/' + b.id))">Delete for good</button></span>
      </li>
    </ul>
    <p v-if="items.length" class="tools"><button v-if="!emptying" @click="emptying = true">Empty the bin</button><template v-else><span>Delete all of it for good?</span><button class="first" :disabled="busy" @click="empty">Empty it</button><button @click="emptying = false">Keep</button></template></p>
  </section>
</template>

<style scoped>
.bin { padding: 12px 14px; display: grid; gap: 8px; }
p { margin: 0; }
ul { list-style: none; margin: 0; padding: 0; max-height: 320px; overflow: auto; }
li { display: grid; grid-template-columns: minmax(0, 2fr) minmax(0, 3fr) auto; gap: 4px 14px; align-items: center; padding: 4px 0; }
li span { overflow-wrap: anywhere; }
li form, .deeds, .tools { display: flex; gap: 8px; align-items: center; flex-wrap: wrap; }
@media (max-width: 700px) { li { grid-template-columns: 1fr; } }
</style>
