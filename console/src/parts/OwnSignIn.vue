<script setup lang="ts">
import { NButton, NInput, useMessage } from 'naive-ui'
import { onMounted, reactive, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import { day } from '@/format'
import { useOperator } from '@/operator'
import { addPasskey, passkeysWork, stopped } from '@/passkey'

// The operator's own password and one-time codes.
const emit = defineEmits<{ changed: [] }>()
const message = useMessage()
const operator = useOperator()
const doing = ref<'' | 'password' | 'codes' | 'drop' | 'passkey'>('')
const form = reactive({ now: '', next: '', code: '', label: '', wrong: '' })
const passkeys = ref<Schemas['Passkey'][]>([])
const codes = ref<Schemas['Codes'] | null>(null)
const recovery = ref<string[]>([])

function begin(what: typeof doing.value) {
  Object.assign(form, { now: '', next: '', code: '', label: '', wrong: '' })
  doing.value = what
}
async function act(change: () => Promise<unknown>, say: string) {
  form.wrong = ''
  try {
    await change()
    if (say) message.success(say)
    doing.value = ''
    await operator.renew()
    emit('changed')
  } catch (error) {
    if (!stopped(error)) form.wrong = sentence(error)
  }
}
async function look() {
  passkeys.value = (await call<Schemas['PasskeyPage']>('GET', '/me/passkeys').catch(() => null))?.items ?? []
}
onMounted(look)
const keep = () => act(() => addPasskey(form.now, form.label).finally(look), 'From now on it signs you in, without a password.')
const forget = (id: string) => act(() => call('DELETE', `/me/passkeys/${id}`).finally(look), 'The passkey is removed.')
const password = () => act(() => call('POST', '/me/password', { now: form.now, next: form.next } satisfies Schemas['PasswordChange']), 'Your password is changed; your other sign-ins have ended.')
async function enrol() {
  begin('codes')
  try {
    codes.value = await call<Schemas['Codes']>('POST', '/me/codes')
  } catch (error) {
    form.wrong = sentence(error)
  }
}
const use = () =>
  act(async () => {
    recovery.value = (await call<Schemas['Recovery']>('PUT', '/me/codes', { secret: codes.value!.secret, code: form.code } satisfies Schemas['CodesUse'])).recovery
    codes.value = null
  }, '')
const drop = () => act(() => call('DELETE', '/me/codes', { code: form.code } satisfies Schemas['CodesDrop']), 'No code is asked for any more.')
</script>

<template>
  <div id="own" class="sheet">
    <header>
      <h2>Your own sign-in</h2><span class="soft">{{ operator.me?.operator }}: a password{{ operator.me?.codes ? ', then a one-time code' : ' alone' }}</span>
      <template v-if="!doing">
        <button class="plain" @click="begin('password')">Change the password</button>
        <button v-if="operator.me?.codes" class="plain" @click="begin('drop')">Switch codes off</button>
        <button v-else class="plain" @click="enrol">Switch one-time codes on</button>
        <button v-if="passkeysWork()" class="plain" @click="begin('passkey')">Add a passkey</button>
      </template>
    </header>
    <form v-if="doing === 'password'" class="fields" @submit.prevent="password">
      <label>The password of now<NInput placeholder="" v-model:value="form.now" type="password" :input-props="{ name: 'now', autocomplete: 'current-password' }" /></label>
      <label>The new one, at least 10 characters<NInput placeholder="" v-model:value="form.next" type="password" show-password-on="click" :input-props="{ name: 'next', autocomplete: 'new-password' }" /></label>
      <p v-if="form.wrong" class="wrong" role="alert">{{ form.wrong }}</p>
      <div class="row"><NButton type="primary" attr-type="submit" :disabled="!form.now || !form.next">Change it</NButton><NButton @click="doing = ''">Cancel</NButton></div>
    </form>
    <form v-else-if="doing === 'codes'" class="fields" @submit.prevent="use">
      <div v-if="codes" class="codes">
        <img :src="`data:image/png;base64,${codes.picture}`" alt="The secret, for an authenticator to read" width="180" height="180" />
        <p>Let an authenticator on your device read the picture, or type its secret:<br /><code class="mono secret">{{ codes.secret }}</code></p>
      </div>
      <label>The six digits that it shows now<NInput placeholder="" v-model:value="form.code" :input-props="{ name: 'code', autocomplete: 'one-time-code', inputmode: 'numeric' }" /></label>
      <p v-if="form.wrong" class="wrong" role="alert">{{ form.wrong }}</p>
      <div class="row"><NButton type="primary" attr-type="submit" :disabled="!codes || !form.code">Ask for codes from now on</NButton><NButton @click="doing = ''">Cancel</NButton></div>
    </form>
    <form v-else-if="doing === 'passkey'" class="fields" @submit.prevent="keep">
      <label>The password of now<NInput placeholder="" v-model:value="form.now" type="password" autofocus :input-props="{ name: 'now', autocomplete: 'current-password' }" /></label>
      <label>A name by which you know the device<NInput placeholder="" v-model:value="form.label" :input-props="{ name: 'label' }" /></label>
      <p v-if="form.wrong" class="wrong" role="alert">{{ form.wrong }}</p>
      <div class="row"><NButton type="primary" attr-type="submit" :disabled="!form.label">Add it</NButton><NButton @click="doing = ''">Cancel</NButton></div>
    </form>
    <form v-else-if="doing === 'drop'" class="fields" @submit.prevent="drop">
      <label>A last code, or a recovery code<NInput placeholder="" v-model:value="form.code" :input-props="{ name: 'code', autocomplete: 'one-time-code' }" /></label>
      <p v-if="form.wrong" class="wrong" role="alert">{{ form.wrong }}</p>
      <div class="row"><NButton type="primary" attr-type="submit" :disabled="!form.code">Switch them off</NButton><NButton @click="doing = ''">Cancel</NButton></div>
    </form>
    <ul v-if="passkeys.length" class="passkeys">
      <li v-for="p in passkeys" :key="p.id"><b>{{ p.label }}</b> <span class="soft">passkey for {{ p.host }}, of {{ day(p.created) }}, {{ p.lastUsed ? `last used ${day(p.lastUsed)}` : 'never used' }}</span> <button class="plain" @click="forget(p.id)">Remove</button></li>
    </ul>
    <div v-if="recovery.length" class="recovery">
      <p>Recovery codes, shown this once: each signs you in once when your device is lost. Keep them where the device is not.</p>
      <ul class="mono"><li v-for="r in recovery" :key="r">{{ r }}</li></ul>
      <NButton size="small" @click="recovery = []">I have kept them</NButton>
    </div>
  </div>
</template>

<style scoped>
.codes { display: flex; gap: 16px; align-items: center; }
.codes img { background: #fff; padding: 6px; border-radius: 4px; }
.secret { font-size: 15px; }
.passkeys { margin: 0; padding: 8px 14px; list-style: none; display: grid; gap: 4px; }
header button + button { margin-left: 14px; }
.recovery { background: var(--copper-wash); border-left: 3px solid var(--copper); padding: 10px 14px; }
.recovery p { margin: 0 0 6px; }
.recovery ul { columns: 2; margin: 0 0 8px; padding-left: 18px; max-width: 520px; }
</style>
