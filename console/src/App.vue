<script setup lang="ts">
import { darkTheme, NConfigProvider, NDialogProvider, NMessageProvider } from 'naive-ui'
import { computed, ref, watchEffect } from 'vue'
import { useRoute } from 'vue-router'
import SideRail from './parts/SideRail.vue'
import { dark, light } from './theme'

const route = useRoute()
const isDark = ref((localStorage.getItem('look') ?? (matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light')) === 'dark')
watchEffect(() => {
  document.documentElement.classList.toggle('dark', isDark.value)
  localStorage.setItem('look', isDark.value ? 'dark' : 'light')
})
const open = computed(() => Boolean(route.meta.open))
</script>

<template>
  <NConfigProvider :theme="isDark ? darkTheme : null" :theme-overrides="isDark ? dark : light" abstract>
    <NMessageProvider placement="bottom-right">
      <NDialogProvider>
        <RouterView v-if="open" />
        <div v-else class="frame">
          <SideRail v-model:dark="isDark" />
          <main><RouterView /></main>
        </div>
      </NDialogProvider>
    </NMessageProvider>
  </NConfigProvider>
</template>
