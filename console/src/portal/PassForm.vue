<script setup lang="ts">
import { nextTick, onMounted, ref } from 'vue'
import { call, Refusal } from './calls'

const props = defineProps<{ kind: 'fetch' | 'drop'; paths: string[]; longest: number }>()
const emit = defineEmits<{ gone: []; done: [] }>()
const days = ref(Math.min(7, Math.floor(props.longest) || props.longest))
const password = ref('')
const text = ref('')
const note = ref('')
const uses = ref(0)
const mib = ref(0)
const shows = ref(false)
const asks = ref(true)
const apart = ref(false)
const mailTo = ref('')
const mailed = ref('')
const made = ref('')
const copied = ref(false)
const wrong = ref('')
const busy = ref(false)
const first = ref<HTMLInputElement>()
onMounted(() => nextTick(() => first.value?.focus()))
async function make() {
  wrong.value = ''
  busy.value = true
  const drop = props.kind === 'drop'
  try {
    const answer = await call<{ link: string; shut?: string; mailed?: string; mailError?: string }>('POST', '/passes', {
      kind: props.kind,
      paths: props.paths,
      days: days.value,
      password: password.value,
      text: text.value,
      note: note.value,
      ...(mailTo.value ? { mailTo: mailTo.value } : {}),
      maxUses: uses.value || 0,
      maxBytes: Math.round((mib.value || 0) * 1048576),
      ...(drop ? { shows: shows.value, asks: asks.value, apart: apart.value } : {}),
    })
    mailed.value = answer.shut ? `But ${answer.shut}. Tell your administrator.` : answer.mailError ? `It was not mailed: ${answer.mailError}` : answer.mailed ? `It was ${answer.mailed}.` : ''
    made.value = answer.link.startsWith('/') ? location.origin + answer.link : answer.link
  } catch (error) {
    if (error instanceof Refusal && error.status === 401) emit('gone')
    else wrong.value = (error as Error).message
  } finally {
    busy.value = false
  }
}
async function copy() {
  await navigator.clipboard?.writeText(made.value).then(() => (copied.value = true), () => undefined)
}
</script>

<template>
  <section class="sheet pass" aria-labelledby="pass-title">
    <h2 id="pass-title">{{ kind === 'fetch' ? 'A link to fetch ' : 'A link to leave files in ' }}{{ paths.length === 1 ? paths[0] : `${paths.length} files and folders` }}</h2>
    <template v-if="made">
      <p role="status">Whoever has this link needs no account. It is shown this once:</p>
      <pre tabindex="0" class="link">{{ made }}</pre>
      <p v-if="mailed">{{ mailed }}</p>
      <p class="line"><button class="first" @click="copy">{{ copied ? 'Copied' : 'Copy it' }}</button><button @click="emit('done')">Done</button></p>
    </template>
    <form v-else @submit.prevent="make">
      <div class="line">
        <label>Days that it works<input ref="first" v-model.number="days" name="pass-days" type="number" step="any" min="0.01" :max="longest" required /></label>
        <label>A password for it, if you like<input v-model="password" name="pass-password" type="text" autocomplete="off" spellcheck="false" /></label>
      </div>
      <label>What whoever opens it reads<textarea v-model="text" name="pass-text" rows="2" maxlength="1000"></textarea></label>
      <div class="line">
        <label>Mail it to, if you like<input v-model="mailTo" name="pass-mail" type="email" /></label>
        <label>A note, for your list<input v-model="note" name="pass-note" maxlength="200" /></label>
        <label>Uses; 0 is any number<input v-model.number="uses" name="pass-uses" type="number" min="0" step="1" /></label>
        <label>MiB in all; 0 is any<input v-model.number="mib" name="pass-mib" type="number" min="0" step="any" /></label>
      </div>
      <fieldset v-if="kind === 'drop'">
        <legend>Whoever leaves files</legend>
        <label><input v-model="asks" type="checkbox" name="pass-asks" />is asked for name, e-mail address and a message</label>
        <label><input v-model="apart" type="checkbox" name="pass-apart" />has a folder of their own</label>
        <label><input v-model="shows" type="checkbox" name="pass-shows" />sees, and may fetch, what is there</label>
      </fieldset>
      <p class="soft">It gives no more than you may do yourself, and ends at once when you end it.</p>
      <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
      <p class="line"><button class="first" :disabled="busy">Make the link</button><button type="button" @click="emit('done')">Cancel</button></p>
    </form>
  </section>
</template>

<style scoped>
.pass { padding: 14px 16px; display: grid; gap: 10px; }
.pass h2 { font-size: 17px; overflow-wrap: anywhere; }
form { display: grid; gap: 12px; }
p { margin: 0; }
.line { display: flex; flex-wrap: wrap; gap: 12px; align-items: end; }
.line label { flex: 1 1 160px; }
textarea { font: inherit; padding: 8px 10px; border: 1px solid var(--rest); border-radius: 4px; background: var(--raised); color: var(--ink); width: 100%; }
fieldset { border: 1px solid var(--line); border-radius: 4px; display: grid; gap: 4px; margin: 0; }
fieldset label { display: flex; gap: 8px; align-items: center; color: var(--ink); }
fieldset input { width: 18px; height: 18px; }
.link { background: var(--ground); padding: 8px 10px; border-radius: 4px; margin: 0; overflow: auto; }
</style>
