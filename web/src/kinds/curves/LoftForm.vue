<script setup lang="ts">
/** A loft: its sections in order, each with where it begins; the rest as its kind says. */
import { computed } from 'vue'
import type { Schemas } from '../../api/types'
import GeneratedForm from '../../bench/Form.vue'
import { useStep } from '../useStep'

const { hand, job, r, told } = useStep<Schemas['LoftStep'], Schemas['LoftTold']>()
const names = computed(() => r.value.sections.map((s) => job.byId.get(s)?.name ?? s))
function on(k: number) {
  const starts = r.value.sections.map((_, n) => r.value.starts[n] ?? 0)
  starts[k] += 1
  r.value.starts = starts
  hand.tryIt(0)
}
function earlier(k: number) {
  const s = [...r.value.sections]
  ;[s[k - 1], s[k]] = [s[k], s[k - 1]]
  r.value.sections = s
  hand.tryIt(0)
}
</script>

<template>
  <GeneratedForm />
  <section class="section" aria-label="Order of the sections">
    <h3>Order</h3>
    <ol>
      <li v-for="(n, k) in names" :key="k" class="mt-1 flex items-center gap-2">
        <span class="w-4 text-soft">{{ k + 1 }}</span>
        <span class="min-w-0 flex-1 truncate font-semibold">{{ n }}</span>
        <button v-if="k" class="underline" :aria-label="`${n} earlier`" @click="earlier(k)">earlier</button>
        <button v-if="k" class="underline" :aria-label="`Begin ${n} a corner on`" @click="on(k)">
          turn on
        </button>
      </li>
    </ol>
    <p v-if="told" class="mt-1.5 text-soft">
      Saffron lines join the corners that belong together; turn a section on where they cross.
    </p>
  </section>
</template>
