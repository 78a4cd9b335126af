<script setup lang="ts">
import { onMounted, reactive, ref } from 'vue'
import { call, Refusal } from './calls'

// What the holder is told by mail.
const emit = defineEmits<{ gone: [] }>()
type Notice = { id: string; events: string[]; path: string; self: boolean }
type Own = { mail: string; ready: boolean; events: { event: string; says: string; kind: 'files' | 'people' | 'house' }[]; items: Notice[] }
const own = ref<Own | null>(null)
const wrong = ref('')
const form = reactive({ events: ['upload'] as string[], path: '/', self: false })
function refuse(error: unknown) {
  if (error instanceof Refusal && error.status === 401) emit('gone')
  else wrong.value = (error as Error).message
}
async function load() {
  await call<Own>('GET', '/notices').then((found) => (own.value = found), refuse)
}
onMounted(load)
const files = () => form.events.some((e) => own.value?.events.find((one) => one.event === e)?.kind === 'files')
async function add() {
  wrong.value = ''
  await call('POST', '/notices', { events: form.events, path: files() ? form.path : '', self: form.self }).catch(refuse)
  await load()
}
async function remove(n: Notice) {
  wrong.value = ''
  await call('DELETE', '/notices/' + encodeURIComponent(n.id)).catch(refuse)
  await load()
}
const saysOf = (n: Notice) => n.events.map((e) => own.value?.events.find((one) => one.event === e)?.says ?? e).join(', ')
</script>

<template>
  <h1>Notices</h1>
  <template v-if="own">
    <p class="soft intro">{{ own.mail ? `When this happens, a mail goes to ${own.mail}.` : 'Your account has no e-mail address: the administrator can give it one.' }}</p>
    <p v-if="own.mail && !own.ready" class="wrong">No mail can be sent from here now: tell the administrator.</p>
    <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
    <section v-if="own.items.length" class="sheet" aria-label="Notices">
      <ul>
        <li v-for="n in own.items" :key="n.id">
          <div class="row">
            <span class="grow"><b>{{ saysOf(n) }}</b><template v-if="n.path"><br /><span class="soft">in {{ n.path }}{{ n.self ? ', also by yourself' : '' }}</span></template></span>
            <button :aria-label="'Remove ' + saysOf(n) + ' ' + n.path" @click="remove(n)">Remove</button>
          </div>
        </li>
      </ul>
    </section>
    <form v-if="own.ready" class="sheet add" aria-label="Another notice" @submit.prevent="add">
      <fieldset>
        <legend>Mail me when</legend>
        <label v-for="e in own.events" :key="e.event"><input v-model="form.events" type="checkbox" :value="e.event" :name="e.event" />{{ e.says }}</label>
      </fieldset>
      <template v-if="files()">
        <label>in this folder, or below it<input v-model="form.path" name="path" required spellcheck="false" /></label>
        <label class="tick"><input v-model="form.self" type="checkbox" name="self" />also when I do it myself</label>
      </template>
      <p><button class="first" :disabled="!form.events.length">Mail me</button></p>
    </form>
  </template>
</template>

<style scoped>
.add { display: grid; gap: 12px; padding: 14px 16px; }
fieldset { border: 0; margin: 0; padding: 0; display: grid; gap: 6px; }
fieldset label, .tick { display: flex; gap: 8px; align-items: center; }
.add p { margin: 0; }
</style>
