<script setup lang="ts">
import { useOperator } from '@/operator'
import HostKeys from '@/parts/HostKeys.vue'

const operator = useOperator()
</script>

<template>
  <section class="page">
    <div class="head"><h1>Settings</h1></div>
    <HostKeys :may-change="operator.mayChange()" />
  </section>
</template>
