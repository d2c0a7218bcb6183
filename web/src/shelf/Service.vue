<script setup lang="ts">
/** For scripts: what may be asked of this server, a run from start to end, and scripts' tokens. */
import { Trash2 } from 'lucide-vue-next'
import { computed, onMounted, ref, shallowRef } from 'vue'
import { call } from '../api/client'
import type { Schemas } from '../api/types'
import Mark from '../shell/Mark.vue'
import ThemeButton from '../shell/ThemeButton.vue'

type Named = { name: string; in: string; required?: boolean; schema?: { type?: string } }
type Asked = {
  summary: string
  description?: string
  parameters?: Named[]
  requestBody?: { content: Record<string, { schema: { $ref?: string; properties?: object } }> }
}
type Row = { id: string; method: string; path: string; asked: Asked }

const rows = shallowRef<Row[]>([])
const tokens = ref<Schemas['TokenLine'][]>([])
const fresh = ref<Schemas['NewToken'] | null>(null)
const name = ref('')
const error = ref('')
const text = ref('')
const open = ref<string | null>(null)
const here = window.location.origin

onMounted(async () => {
  try {
    tokens.value = await call<Schemas['TokenLine'][]>('GET', '/tokens')
    const said = await call<{ paths: Record<string, Record<string, Asked>> }>('GET', '/openapi.json')
    rows.value = Object.entries(said.paths).flatMap(([path, ways]) =>
      Object.entries(ways).map(([method, asked]) => ({ id: `${method} ${path}`, method, path, asked })),
    )
  } catch (e) {
    error.value = (e as Error).message
  }
})
const says = (r: Row) => r.asked.description ?? r.asked.summary
const shown = computed(() => {
  const words = text.value.toLowerCase().split(/\s+/).filter(Boolean)
  return rows.value.filter((r) => words.every((w) => `${r.path} ${says(r)}`.toLowerCase().includes(w)))
})
function body(r: Row): string {
  const [kind, what] = Object.entries(r.asked.requestBody?.content ?? {})[0] ?? []
  if (!what) return ''
  const named = what.schema.$ref?.split('/').at(-1)
  return named ? `${kind}: ${named}` : `${kind}: ${Object.keys(what.schema.properties ?? {}).join(', ')}`
}
async function make() {
  error.value = ''
  try {
    fresh.value = await call<Schemas['NewToken']>('POST', '/tokens', { name: name.value.trim() })
    tokens.value = await call<Schemas['TokenLine'][]>('GET', '/tokens')
    name.value = ''
  } catch (e) {
    error.value = (e as Error).message
  }
}
async function takeBack(t: Schemas['TokenLine']) {
  tokens.value = await call<Schemas['TokenLine'][]>('DELETE', `/tokens/${t.id}`)
  if (fresh.value?.id === t.id) fresh.value = null
}
const day = (when: string | null) => (when ? when.slice(0, 10) : 'never')
</script>

<template>
  <div class="flex h-full flex-col">
    <header class="flex h-12 shrink-0 items-center gap-3 border-b border-rule bg-sheet px-4">
      <RouterLink to="/" aria-label="All jobs"><Mark /></RouterLink>
      <h1 class="text-[15px] font-semibold">Deft Mason</h1>
      <span class="flex-1 text-soft">For scripts</span>
      <ThemeButton />
    </header>
    <main class="shelf-page flex-1 overflow-y-auto px-6 py-7">
      <section aria-label="What may be asked" class="min-w-0">
        <div class="flex items-baseline gap-3">
          <h2>What may be asked</h2>
          <span class="text-soft">{{ shown.length }} of {{ rows.length }}</span>
          <span class="flex-1" />
          <input v-model="text" class="field w-56" placeholder="Find a request" aria-label="Find a request" />
        </div>
        <p class="mt-1 text-soft">
          All paths begin with <span class="fig">{{ here }}</span>; the whole description is at
          <a class="fig underline" href="/api/openapi.json">/api/openapi.json</a>. Lengths are in mm, angles
          in degrees.
        </p>
        <ul class="mt-3">
          <li v-for="r in shown" :key="r.id" class="border-t border-dotted border-rule py-1.5">
            <button
              class="flex w-full items-baseline gap-2.5 text-left"
              :aria-expanded="open === r.id"
              @click="open = open === r.id ? null : r.id"
            >
              <span class="fig w-[52px] shrink-0 uppercase text-soft">{{ r.method }}</span>
              <span class="fig min-w-0 flex-1 break-words">{{ r.path }}</span>
            </button>
            <p class="pl-[62px] text-soft" :class="{ truncate: open !== r.id }">{{ says(r) }}</p>
            <dl v-if="open === r.id" class="fig mt-1 space-y-0.5 pl-[62px]">
              <div v-for="q in r.asked.parameters ?? []" :key="q.name">
                {{ q.name }}
                <span class="text-soft">in the {{ q.in }}{{ q.required ? '' : ', may be left out' }}</span>
              </div>
              <div v-if="body(r)">{{ body(r) }}</div>
            </dl>
          </li>
        </ul>
      </section>
      <section aria-label="Tokens" class="min-w-0 space-y-3">
        <h2>Tokens</h2>
        <p class="text-soft">
          A script speaks for you with a token in each request:
          <span class="fig block">Authorization: Bearer mason_…</span>
        </p>
        <form class="flex gap-2" @submit.prevent="make">
          <input
            v-model="name"
            class="field min-w-0 flex-1"
            maxlength="80"
            placeholder="what it is for"
            aria-label="What the token is for"
          />
          <button class="btn" :disabled="!name.trim()">Make a token</button>
        </form>
        <p v-if="fresh" class="note" role="status">
          Copy it now; it is shown this once.
          <span class="fig mt-1 block select-all break-all" data-figure="token">{{ fresh.token }}</span>
        </p>
        <p v-if="error" class="note-bad" role="alert">{{ error }}</p>
        <ul>
          <li
            v-for="t in tokens"
            :key="t.id"
            class="flex items-baseline gap-2 border-t border-dotted border-rule py-1.5"
          >
            <b class="min-w-0 flex-1 truncate font-semibold">{{ t.name }}</b>
            <span class="text-soft">used {{ day(t.used) }}</span>
            <button :aria-label="`Take back ${t.name}`" title="Take it back" @click="takeBack(t)">
              <Trash2 :size="13" />
            </button>
          </li>
        </ul>
        <h2 class="pt-3">A run from start to end</h2>
        <p class="text-soft">Send a scan, replay a recipe on it, fetch the proof:</p>
        <pre
          tabindex="0"
          class="fig overflow-x-auto rounded-sm border border-rule bg-white p-2.5 leading-[1.55]"
        >
curl -H "Authorization: Bearer $TOKEN" \
  -F file=@scan.ply {{ here }}/api/uploads
curl -H … -F file=@recipe.zip {{ here }}/api/recipes
curl -H … -H 'Content-Type: application/json' \
  -d '{"upload": 7}' \
  {{ here }}/api/jobs/3/scans/scan/other</pre>
        <p class="text-soft">The whole of it stands in <span class="fig">docs/service.md</span>.</p>
      </section>
    </main>
  </div>
</template>
