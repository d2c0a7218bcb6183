<script setup lang="ts">
/** What distance remains between every two scans, as a matrix; the overlap when one is pointed at. */
import { computed, ref } from 'vue'
import { useNames } from './useNames'

type Link = { a: string; b: string; overlap: number; rms: number; area: number }
const props = defineProps<{ links: Link[]; scans: string[]; moved?: Record<string, number> }>()
const { numberOf, css, nameOf } = useNames()
const over = ref<Link | null>(null)
const at = computed(
  () =>
    new Map(
      props.links.flatMap(
        (l) =>
          [
            [`${l.a}|${l.b}`, l],
            [`${l.b}|${l.a}`, l],
          ] as [string, Link][],
      ),
    ),
)
const worst = computed(() => Math.max(...props.links.map((l) => l.rms), 1e-9))
const shade = (l: Link) => `rgba(181,96,42,${(0.06 + 0.5 * (l.rms / worst.value) ** 2).toFixed(2)})`
</script>

<template>
  <table
    class="fig mt-1.5 w-full border-collapse text-center text-[11px]"
    aria-label="Distance left between scans, in thousandths of a millimetre"
  >
    <thead>
      <tr>
        <th class="w-7 font-normal text-soft">µm</th>
        <th v-for="s in scans" :key="s" scope="col" class="font-normal" :title="nameOf(s)">
          <span class="mx-auto block h-1.5 w-4" :style="{ background: css(s) }" />{{ numberOf(s) }}
        </th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="a in scans" :key="a">
        <th
          scope="row"
          class="border-l-[5px] font-normal"
          :style="{ borderColor: css(a) }"
          :title="nameOf(a)"
        >
          {{ numberOf(a) }}
        </th>
        <td
          v-for="b in scans"
          :key="b"
          class="h-6 border border-rule"
          :style="at.get(`${a}|${b}`) ? { background: shade(at.get(`${a}|${b}`)!) } : undefined"
          @pointerenter="over = at.get(`${a}|${b}`) ?? null"
          @pointerleave="over = null"
        >
          {{ a === b ? '' : at.get(`${a}|${b}`) ? Math.round(1000 * at.get(`${a}|${b}`)!.rms) : '–' }}
        </td>
      </tr>
    </tbody>
  </table>
  <p class="mt-1 min-h-[18px] text-soft">
    <template v-if="over"
      >{{ numberOf(over.a) }} and {{ numberOf(over.b) }} share
      <span class="fig">{{ Math.min(100, Math.round(100 * over.overlap)) }} %</span>,
      <span class="fig">{{ over.rms.toFixed(3) }}</span> mm apart (rms)</template
    >
    <template v-else>Point at a pair for what it shares; – shares nothing.</template>
  </p>
</template>
