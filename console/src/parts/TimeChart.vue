<script setup lang="ts">
import { useThemeVars } from 'naive-ui'
import { onMounted, onUnmounted, ref, watch } from 'vue'
import type { ECharts } from '@/parts/charts'

// Lines or stacked bars over time. The numbers stand beside it, for who can't see it.
const props = defineProps<{
  times: string[] // as they are shown
  lines: { name: string; values: number[]; rest?: boolean }[]
  bars?: boolean // stacked
  form: (value: number) => string
  bytes?: boolean // the axis goes in powers of two
  label: string
  height: number
}>()
const emit = defineEmits<{ pick: [index: number] }>()
const at = ref<HTMLElement>()
const theme = useThemeVars()
let chart: ECharts | undefined
let watching: ResizeObserver | undefined

onMounted(async () => {
  const { open } = await import('@/parts/charts')
  if (!at.value) return
  chart = open(at.value)
  chart.on('click', (event) => emit('pick', event.dataIndex))
  watching = new ResizeObserver(() => chart?.resize())
  watching.observe(at.value)
  draw()
})
onUnmounted(() => {
  watching?.disconnect()
  chart?.dispose()
})
watch([() => props.lines, () => props.times, theme], draw, { flush: 'post' })

function draw() {
  if (!chart) return
  const style = getComputedStyle(document.documentElement)
  const colour = (name: string) => style.getPropertyValue(name).trim()
  const tones = colour('--tones').split(' ')
  // The axis has at most five marks.
  const sums = props.times.map((_, i) => (props.bars ? props.lines.reduce((sum, l) => sum + (l.values[i] ?? 0), 0) : Math.max(0, ...props.lines.map((l) => l.values[i] ?? 0))))
  const top = Math.max(1, ...sums)
  const step = props.bytes ? 2 ** Math.ceil(Math.log2(Math.max(1, top / 4))) : undefined
  const text = { color: colour('--soft'), fontFamily: getComputedStyle(document.body).fontFamily, fontSize: 12 }
  chart.setOption(
    {
      animation: false,
      textStyle: text,
      grid: { left: 8, right: 12, top: props.lines.length > 1 ? 34 : 14, bottom: 6, outerBoundsMode: 'same', outerBoundsContain: 'axisLabel' },
      legend: { show: props.lines.length > 1, type: 'scroll', top: 2, left: 4, itemWidth: 12, itemHeight: 8, textStyle: text },
      tooltip: {
        trigger: 'axis', confine: true, backgroundColor: colour('--raised'), borderColor: colour('--line'), textStyle: { ...text, color: colour('--ink') },
        order: 'valueDesc', valueFormatter: (v: unknown) => props.form(Number(v)),
      },
      xAxis: { type: 'category', data: props.times, boundaryGap: props.bars === true, axisLine: { lineStyle: { color: colour('--line') } }, axisTick: { show: false }, axisLabel: { ...text, hideOverlap: true, alignMinLabel: props.bars ? undefined : 'left', alignMaxLabel: props.bars ? undefined : 'right' } },
      yAxis: { type: 'value', splitNumber: 3, interval: step, max: step && Math.ceil(top / step) * step, minInterval: 1, splitLine: { lineStyle: { color: colour('--line') } }, axisLabel: { ...text, formatter: props.form } },
      series: props.lines.map((line, i) => {
        const color = line.rest ? colour('--rest') : tones[i % tones.length]
        const base = { name: line.name, data: line.values, color, emphasis: { disabled: true } }
        return props.bars ? { ...base, type: 'bar', stack: 'all', barMaxWidth: 34 } : { ...base, type: 'line', showSymbol: false, lineStyle: { width: 1.5 }, areaStyle: { opacity: 0.15 } }
      }),
    },
    { replaceMerge: ['series'] },
  )
}
</script>

<template>
  <div ref="at" role="img" :aria-label="label" :style="{ height: `${height}px` }"></div>
</template>
