<script setup lang="ts">
import { computed, onMounted, onUnmounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { call, type Schemas } from '@/api/client'
import { rail, settings } from '@/rooms'

// Finds pages, settings, accounts, groups and listeners by name, and goes there.
const emit = defineEmits<{ wanted: []; gone: [] }>()
type Place = { kind: string; text: string; note?: string; to: string }
const router = useRouter()
const box = ref<HTMLInputElement>()
const text = ref('')
const named = ref<Place[]>([])
const at = ref(0)
const open = ref(false)
const places: Place[] = [
  ...rail.flatMap((group) => group.pages.map((p) => ({ kind: 'page', text: p.text, to: p.to }))),
  ...settings.map((s) => ({ kind: 'setting', text: s.text, to: s.to })),
]
const where = { account: '/accounts/', group: '/groups/', listener: '/settings/', pass: '/passes?pass=', notice: '/notices/', receiver: '/notices?receiver=' }
const words = computed(() => text.value.trim().toLowerCase())
const found = computed(() => (words.value ? [...places.filter((p) => p.text.toLowerCase().includes(words.value)).slice(0, 6), ...named.value] : []))

let pause = 0
watch(words, (asked) => {
  at.value = 0
  open.value = true
  clearTimeout(pause)
  if (!asked) {
    named.value = []
    return
  }
  pause = window.setTimeout(async () => {
    try {
      const page = await call<Schemas['NamedPage']>('GET', `/find?text=${encodeURIComponent(asked.slice(0, 100))}`)
      if (asked === words.value) named.value = page.items.map((i) => ({ kind: i.kind, text: i.name, note: i.note, to: where[i.kind] + encodeURIComponent(i.name) }))
    } catch {
      named.value = [] // what the pages are called is found without the service
    }
  }, 120)
})

function go(place: Place | undefined) {
  if (!place) return
  text.value = ''
  open.value = false
  box.value?.blur()
  void router.push(place.to)
  emit('gone')
}
function key(event: KeyboardEvent) {
  if (event.key === 'ArrowDown') at.value = Math.min(at.value + 1, found.value.length - 1)
  else if (event.key === 'ArrowUp') at.value = Math.max(at.value - 1, 0)
  else if (event.key === 'Enter') go(found.value[at.value])
  else if (event.key === 'Escape') {
    text.value = ''
    box.value?.blur()
  } else return
  event.preventDefault()
}
async function anywhere(event: KeyboardEvent) {
  const typing = event.target instanceof HTMLElement && event.target.closest('input, textarea, select, [contenteditable]')
  const asked = event.key.toLowerCase() === 'k' && (event.ctrlKey || event.metaKey)
  if (!asked && (event.key !== '/' || typing || event.ctrlKey || event.metaKey || event.altKey)) return
  event.preventDefault()
  emit('wanted')
  await Promise.resolve()
  box.value?.focus()
  box.value?.select()
}
onMounted(() => document.addEventListener('keydown', anywhere))
onUnmounted(() => {
  document.removeEventListener('keydown', anywhere)
  clearTimeout(pause)
})
</script>

<template>
  <div class="find">
    <input
      ref="box" v-model="text" type="text" role="combobox" name="find" aria-label="Find a page, setting, account, group or listener" placeholder="Find   /" autocomplete="off" spellcheck="false"
      aria-autocomplete="list" aria-controls="found" :aria-expanded="open && found.length > 0" :aria-activedescendant="open && found.length ? `found-${at}` : undefined"
      @keydown="key" @focus="open = true" @blur="open = false"
    />
    <ul v-show="open && words" id="found" role="listbox" aria-label="Found">
      <li v-for="(p, i) in found" :id="`found-${i}`" :key="p.kind + p.to" role="option" :aria-selected="i === at" :class="{ at: i === at }" @mousedown.prevent="go(p)" @mousemove="at = i">
        <span class="kind">{{ p.kind }}</span> {{ p.text }} <span v-if="p.note" class="soft">{{ p.note }}</span>
      </li>
      <li v-if="!found.length" role="option" aria-selected="false" class="soft">Nothing is called so.</li>
    </ul>
  </div>
</template>

<style scoped>
.find { position: relative; margin: 0 12px 12px; }
input { width: 100%; padding: 5px 9px; border: 1px solid var(--line); border-radius: 4px; background: var(--raised); color: var(--ink); font: inherit; }
input::placeholder { color: var(--soft); opacity: 1; }
ul { position: absolute; z-index: 20; top: calc(100% + 3px); left: 0; margin: 0; padding: 4px 0; list-style: none; width: min(380px, calc(100vw - 24px)); max-height: 60vh; overflow: auto; background: var(--raised); border: 1px solid var(--line); border-radius: 4px; box-shadow: 0 6px 20px rgb(0 0 0 / 18%); }
li { padding: 4px 12px; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; cursor: pointer; }
li.at { background: var(--spruce-wash); }
.kind { display: inline-block; width: 62px; font-size: 12px; color: var(--soft); }
</style>
