<script setup lang="ts">
import { NButton, NInput, NSelect } from 'naive-ui'
import { computed, reactive, ref } from 'vue'
import { call, sentence, type Schemas } from '@/api/client'
import GroupSelect from './GroupSelect.vue'
import { lengthOf, lines, words } from './notice'

// Makes a source, or changes one.
const props = defineProps<{ source?: Schemas['Source'] }>()
const emit = defineEmits<{ saved: []; close: [] }>()
const s = props.source
const form = reactive({
  name: s?.name ?? '', kind: s?.kind ?? ('directory' as 'directory' | 'radius' | 'sso'), note: s?.note ?? '', off: s?.off ?? false, servers: s?.servers.join(', ') ?? '', timeout: lengthOf(s?.timeout ?? 2),
  away: s?.away ?? ('refuse' as 'refuse' | 'recent'), recent: lengthOf(s?.recent || 43200), suffix: s?.suffix ?? '', makes: s?.makes ?? false, groups: s?.groups ?? [],
  table: s?.table?.map((row) => `${row.theirs} = ${row.ours}`).join('\n') ?? '', trust: s?.trust ?? '', plain: s?.plain ?? false, bindAs: s?.bindAs ?? '', base: s?.base ?? '', people: s?.people ?? '(objectClass=person)',
  nameAttribute: s?.nameAttribute ?? '', mailAttribute: s?.mailAttribute ?? '', keyAttribute: s?.keyAttribute ?? '', groupBase: s?.groupBase ?? '', nested: s?.nested ?? false, secret: '',
  standard: s?.standard ?? ('openid' as 'openid' | 'saml'), label: s?.label ?? '', knownAs: s?.knownAs ?? '', metadata: s?.metadata ?? '', groupAttribute: s?.groupAttribute ?? '', scopes: s?.scopes?.join(', ') ?? 'profile, email',
  roles: s?.roles?.map((row) => `${row.theirs} = ${row.role}`).join('\n') ?? '',
})
const wrong = ref('')
const kinds = [{ label: 'a directory (LDAP)', value: 'directory' }, { label: 'a RADIUS server', value: 'radius' }, { label: 'a single sign-on', value: 'sso' }]
const standards = [{ label: 'OpenID Connect', value: 'openid' }, { label: 'SAML 2.0', value: 'saml' }]
const samples = { directory: 'ldaps://directory.example', radius: 'radius.example:1812', openid: 'https://id.example', saml: 'https://id.example/metadata' }
const saml = computed(() => form.kind === 'sso' && form.standard === 'saml')
const rules = [{ label: 'nobody of it signs in', value: 'refuse' }, { label: 'who was let in a short while ago signs in', value: 'recent' }]
const enough = {
  radius: () => form.servers && (s || form.secret),
  directory: () => form.servers && form.base && (!form.bindAs || form.secret || s?.hasSecret),
  sso: () => (saml.value ? form.servers || form.metadata : form.servers && form.knownAs),
}
const ready = computed(() => form.name && enough[form.kind]())
async function save() {
  wrong.value = ''
  const length = (text: string) => text as unknown as number // which the service reads
  const pairs = (text: string) => lines(text).map((line) => [line.slice(0, line.lastIndexOf('=')).trim(), line.slice(line.lastIndexOf('=') + 1).trim()] as const)
  const ask: Schemas['SourceAsk'] = {
    note: form.note, off: form.off, servers: words(form.servers), timeout: length(form.timeout), away: form.away, suffix: form.suffix.trim(), makes: form.makes, groups: form.groups,
    table: pairs(form.table).map(([theirs, ours]) => ({ theirs, ours })),
    ...(form.away === 'recent' ? { recent: length(form.recent) } : {}), ...(form.secret ? { secret: form.secret } : {}),
  }
  if (form.kind === 'directory') {
    const { trust, plain, bindAs, base, people, nameAttribute, mailAttribute, keyAttribute, groupBase, nested } = form
    Object.assign(ask, { trust, plain, bindAs, base, people, nameAttribute, mailAttribute, keyAttribute, groupBase, nested, ...(bindAs ? {} : { secret: '' }) })
  }
  if (form.kind === 'sso') {
    const { standard, label, knownAs, metadata, groupAttribute, nameAttribute, mailAttribute, trust } = form
    Object.assign(ask, { standard, label, knownAs, groupAttribute, nameAttribute, mailAttribute, trust, roles: pairs(form.roles).map(([theirs, role]) => ({ theirs, role })), ...(saml.value ? { metadata } : { scopes: words(form.scopes) }) })
  }
  try {
    await (s ? call('PATCH', `/sources/${s.name}`, ask) : call('POST', '/sources', { ...ask, name: form.name, kind: form.kind }))
    emit('saved')
    emit('close')
  } catch (error) {
    wrong.value = sentence(error)
  }
}
</script>

<template>
  <form class="fields" @submit.prevent="save">
    <h2>{{ s ? `Source ${s.name}` : 'A new source' }}</h2>
    <template v-if="!s">
      <label>Name<NInput v-model:value="form.name" placeholder="" autofocus :input-props="{ name: 'source', spellcheck: false, autocapitalize: 'none' }" /></label>
      <label>It is<NSelect v-model:value="form.kind" :options="kinds" :input-props="{ 'aria-label': 'It is' }" /></label>
    </template>
    <label v-if="!s && form.kind === 'sso'">It speaks<NSelect v-model:value="form.standard" :options="standards" :input-props="{ 'aria-label': 'It speaks' }" /></label>
    <label>{{ saml ? 'Address of its metadata; empty where that is given below' : form.kind === 'sso' ? 'Address of the provider' : 'Servers, asked in this order' }}<NInput v-model:value="form.servers" :placeholder="samples[form.kind === 'sso' ? form.standard : form.kind]" :input-props="{ name: 'servers', spellcheck: false }" /></label>
    <template v-if="form.kind === 'directory'">
      <label>People are below<NInput v-model:value="form.base" placeholder="ou=people,dc=example" :input-props="{ name: 'base', spellcheck: false }" /></label>
      <label>They are looked up as; empty for nobody<NInput v-model:value="form.bindAs" placeholder="cn=lookup,dc=example" :input-props="{ name: 'bindAs', spellcheck: false }" /></label>
      <label>Its password{{ s?.hasSecret ? '; empty leaves it as it is' : '' }}<NInput v-model:value="form.secret" type="password" placeholder="" :input-props="{ name: 'secret', autocomplete: 'off' }" /></label>
      <label>Groups are below; empty where people's entries name them (memberOf)<NInput v-model:value="form.groupBase" placeholder="ou=groups,dc=example" :input-props="{ name: 'groupBase', spellcheck: false }" /></label>
      <label>People are what fits<NInput v-model:value="form.people" placeholder="" :input-props="{ name: 'people', spellcheck: false }" /></label>
      <label>Attribute of the name<NInput v-model:value="form.nameAttribute" placeholder="uid" :input-props="{ name: 'nameAttribute', spellcheck: false }" /></label>
      <label>Attribute of the e-mail address<NInput v-model:value="form.mailAttribute" placeholder="mail" :input-props="{ name: 'mailAttribute', spellcheck: false }" /></label>
      <label>Attribute of SSH keys; empty: none are taken<NInput v-model:value="form.keyAttribute" placeholder="" :input-props="{ name: 'keyAttribute', spellcheck: false }" /></label>
      <label>Authority that signed its certificate (PEM); empty for those of this system<NInput v-model:value="form.trust" type="textarea" :rows="2" placeholder="" :input-props="{ name: 'trust', spellcheck: false }" /></label>
      <label class="tick"><input v-model="form.nested" type="checkbox" name="nested" />groups may hold groups</label>
      <label class="tick"><input v-model="form.plain" type="checkbox" name="plain" />passwords may go to ldap:// without TLS</label>
    </template>
    <template v-else-if="form.kind === 'sso'">
      <label v-if="saml">Its metadata (XML)<NInput v-model:value="form.metadata" type="textarea" :rows="2" placeholder="" :input-props="{ name: 'metadata', spellcheck: false }" /></label>
      <label>{{ saml ? 'Entity ID that it knows this service by; empty for the address of our metadata' : 'Client ID that it knows this service by' }}<NInput v-model:value="form.knownAs" placeholder="" :input-props="{ name: 'knownAs', spellcheck: false }" /></label>
      <label v-if="!saml">Client secret; empty for {{ s ? 'the one that is kept' : 'none' }}<NInput v-model:value="form.secret" type="password" placeholder="" :input-props="{ name: 'secret', autocomplete: 'off' }" /></label>
      <label>What people know it as, on the page where they sign in<NInput v-model:value="form.label" :placeholder="form.name" :input-props="{ name: 'label' }" /></label>
      <label>Claim that holds the name<NInput v-model:value="form.nameAttribute" :placeholder="saml ? 'the name of the subject' : 'preferred_username'" :input-props="{ name: 'nameAttribute', spellcheck: false }" /></label>
      <label>Claim that holds the e-mail address<NInput v-model:value="form.mailAttribute" placeholder="email" :input-props="{ name: 'mailAttribute', spellcheck: false }" /></label>
      <label>Claim that holds groups<NInput v-model:value="form.groupAttribute" placeholder="groups" :input-props="{ name: 'groupAttribute', spellcheck: false }" /></label>
      <label v-if="!saml">Scopes that are asked for besides openid<NInput v-model:value="form.scopes" placeholder="" :input-props="{ name: 'scopes', spellcheck: false }" /></label>
      <label v-if="!form.metadata">Authority that signed its certificate (PEM); empty for those of this system<NInput v-model:value="form.trust" type="textarea" :rows="2" placeholder="" :input-props="{ name: 'trust', spellcheck: false }" /></label>
      <label>Who is in a group of theirs is an operator with that role, as in it-desk = manager, one on each line<NInput v-model:value="form.roles" type="textarea" :rows="2" placeholder="" :input-props="{ name: 'roles', spellcheck: false }" /></label>
    </template>
    <label v-else>Secret that it knows this service by{{ s ? '; empty leaves it as it is' : '' }}<NInput v-model:value="form.secret" type="password" placeholder="" :input-props="{ name: 'secret', autocomplete: 'off' }" /></label>
    <label>Who is in a group of theirs is in one of ours, as in surveyors = crews, one on each line<NInput v-model:value="form.table" type="textarea" :rows="3" placeholder="" :input-props="{ name: 'table', spellcheck: false }" /></label>
    <GroupSelect v-model="form.groups" label="Groups of who is in none of those" />
    <label v-if="form.kind !== 'sso'">While it is away<NSelect v-model:value="form.away" :options="rules" :input-props="{ 'aria-label': 'While it is away' }" /></label>
    <label v-if="form.away === 'recent'">How long ago that may be<NInput v-model:value="form.recent" placeholder="" :input-props="{ name: 'recent' }" /></label>
    <label>What stands behind its names here; it is asked for what is before that<NInput v-model:value="form.suffix" placeholder="@partner.example" :input-props="{ name: 'suffix', spellcheck: false, autocapitalize: 'none' }" /></label>
    <label>How long one question may take<NInput v-model:value="form.timeout" placeholder="" :input-props="{ name: 'timeout' }" /></label>
    <label>Note, for the list<NInput v-model:value="form.note" placeholder="" :input-props="{ name: 'source-note' }" /></label>
    <label class="tick"><input v-model="form.makes" type="checkbox" name="makes" />an account is made at the first sign-in of who has none</label>
    <label v-if="s" class="tick"><input v-model="form.off" type="checkbox" name="off" />off: it vouches for nobody</label>
    <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
    <div class="row"><NButton type="primary" attr-type="submit" :disabled="!ready">{{ s ? 'Save' : 'Add the source' }}</NButton><NButton @click="$emit('close')">Cancel</NButton></div>
  </form>
</template>

<style scoped>
.fields .tick { display: flex; gap: 8px; align-items: center; color: var(--ink); }
.fields { grid-template-columns: repeat(auto-fit, minmax(min(280px, 100%), 1fr)); max-width: 900px; align-items: end; }
.fields > h2, .fields > p, .row { grid-column: 1 / -1; margin: 0; }
</style>
