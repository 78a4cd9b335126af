// The parts of ECharts that the console draws with, loaded when the first chart is.
import { BarChart, LineChart } from 'echarts/charts'
import { GridComponent, LegendComponent, TooltipComponent } from 'echarts/components'
import { init, use, type ECharts } from 'echarts/core'
import { SVGRenderer } from 'echarts/renderers'

use([BarChart, LineChart, GridComponent, LegendComponent, TooltipComponent, SVGRenderer])

export type { ECharts }
export const open = (at: HTMLElement) => init(at, null, { renderer: 'svg' })
