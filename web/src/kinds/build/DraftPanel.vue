<script setup lang="ts">
/** The first draft: asked for, followed, looked at, laid as ordinary stones. */
import { computed, ref, watch } from 'vue'
import type { Schemas } from '../../api/types'
import Working from '../../bench/Working.vue'
import { short } from '../../state/format'
import { useJob } from '../../state/job'
import { useStudy } from '../../state/studies'

const j = useJob()
const { running, error, run, stop } = useStudy<Schemas['DraftView']>('/draft')
const found = ref<Schemas['DraftView'] | null>(null)
const laying = ref(false)
/** Offered while nothing of the part is set: a draft sets its own frame. */
const offered = computed(() => !!j.scan && !j.frame && !j.body)
watch([() => j.job?.id, () => j.scan?.key], () => {
  found.value = null
  stop()
})
async function ask() {
  found.value = await run({ scan: j.scan!.id })
}
async function lay() {
  laying.value = true
  if (await j.act('POST', '/draft/laid', { steps: found.value!.steps })) found.value = null
  laying.value = false
}
const names = computed(() => (found.value?.steps ?? []).map((s) => String(s.name)))
</script>

<template>
  <section v-if="offered" class="section !border-t-0" aria-label="First draft">
    <h3>First draft</h3>
    <Working v-if="running" :at="running" @stop="stop" />
    <template v-else-if="found">
      <p class="mt-1.5">
        <b class="fig font-semibold" data-figure="explained">{{ (100 * found.explained).toFixed(1) }} %</b> of
        the scan explained by {{ found.steps.length }} steps.
      </p>
      <ol class="mt-1 max-h-[200px] columns-2 gap-3 overflow-auto text-soft" aria-label="Proposed steps">
        <li v-for="(n, i) in names" :key="i" class="truncate">{{ n }}</li>
      </ol>
      <template v-if="found.left.length">
        <p class="mt-2">Left:</p>
        <p v-for="(l, i) in found.left.slice(0, 6)" :key="i" class="text-soft">
          <span class="fig">{{ short(Math.round(l.area)) }} mm²</span> at
          <span class="fig">{{ l.place.map((c) => short(Math.round(c))).join(', ') }}</span>: {{ l.why }}
        </p>
      </template>
      <p v-for="s in found.said" :key="s" class="note mt-1.5">{{ s }}</p>
      <div class="mt-2 flex gap-1.5">
        <button class="btn flex-1 !bg-ink !text-sheet" :disabled="laying" @click="lay">Lay the draft</button>
        <button class="btn" @click="found = null">Drop</button>
      </div>
    </template>
    <template v-else>
      <p class="mt-1.5 text-soft">
        The part is stood up and a whole model proposed as ordinary steps, each to be kept, changed or
        dropped.
      </p>
      <button class="btn mt-2 w-full" @click="ask">Propose a first draft</button>
    </template>
    <p v-if="error" class="note mt-1.5" role="alert">{{ error }}</p>
  </section>
</template>
