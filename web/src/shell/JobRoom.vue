<script setup lang="ts">
/** One job's room: line above, yard left, view between, bench right, wall below. */
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import Bench from '../bench/Bench.vue'
import { useRoute } from 'vue-router'
import { useCapture } from '../capture/capture'
import CaptureView from '../capture/CaptureView.vue'
import { stageOf } from '../kinds/registry'
import Guide from './Guide.vue'
import LedgerTable from '../ledger/LedgerTable.vue'
import PiecesTable from '../pieces/PiecesTable.vue'
import Paper from '../paper/Paper.vue'
import { useRoom } from '../state/room'
import { useSchemas } from '../state/schemas'
import View3D from '../view3d/View3D.vue'
import Wall from '../wall/Wall.vue'
import Yard from '../yard/Yard.vue'
import FindTool from './FindTool.vue'
import Help from './Help.vue'
import Keys from './Keys.vue'
import StageLine from './StageLine.vue'
import { useKeys } from './useKeys'

const props = defineProps<{ id: number }>()
const room = useRoom()
const route = useRoute()
const capture = useCapture()
const { job: j, hand, shown } = room
const view = ref<InstanceType<typeof View3D> | null>(null)
const finding = ref(false)
const keys = ref(false)
const help = ref(false)
const lost = ref('')

async function open() {
  try {
    hand.drop()
    await j.open(props.id)
    shown.reset()
    const asked = Number(route.query.capture)
    if (asked) {
      capture.open(asked)
      shown.capture = true
    }
  } catch (e) {
    lost.value = (e as Error).message
  }
}
onMounted(open)
useSchemas() // what forms are made from is there before the first is opened
watch(() => props.id, open)
/** What is put in hand is done in the view. */
watch(
  () => hand.kind,
  (k) => k && (shown.pieces = shown.capture = false),
)
watch(
  () => shown.stage,
  (s) => s !== 'Scans' && (shown.capture = false),
)
const instead = computed(() => shown.pieces || shown.capture)
onBeforeUnmount(() => {
  hand.drop()
  j.close()
})
/** The paper lies beside the view while something is drawn, and where drawings are looked at. */
const papered = computed(() =>
  hand.kind ? hand.kind.paper : !!stageOf(shown.stage)?.paper && j.given('sketch').length > 0,
)
const beside = computed(() => hand.kind?.beside(room) ?? null)
const cover = computed(() => hand.kind?.covers(room) ?? null)
useKeys({ view, finding, keys, help })
</script>

<template>
  <div v-if="lost" class="grid h-full place-items-center">
    <p class="note-bad" role="alert">
      {{ lost }} <RouterLink to="/" class="underline">Back to the shelf</RouterLink>
    </p>
  </div>
  <div v-else-if="j.job" class="flex h-full flex-col">
    <StageLine @find="finding = true" @keys="keys = true" />
    <div class="flex min-h-0 flex-1">
      <Yard><Guide v-if="j.job.demo" /></Yard>
      <main class="relative flex min-w-0 flex-1 flex-col">
        <div class="relative flex min-h-0 flex-1">
          <PiecesTable v-if="shown.pieces" />
          <CaptureView v-else-if="shown.capture" />
          <component :is="cover" v-else-if="cover" />
          <View3D v-show="!cover && !instead" ref="view" />
          <component :is="beside" v-if="beside && !instead" class="w-[60%] shrink-0" />
          <Paper v-if="papered && !instead" class="w-[60%] shrink-0" />
        </div>
        <LedgerTable v-if="shown.ledger" />
        <p
          v-if="j.error"
          class="note-bad absolute bottom-4 left-1/2 z-10 max-w-md -translate-x-1/2"
          role="alert"
        >
          {{ j.error }} <button class="ml-2 underline" @click="j.error = ''">Close</button>
        </p>
      </main>
      <Bench />
    </div>
    <Wall />
    <FindTool v-if="finding" @close="finding = false" />
    <Keys v-if="keys" @close="keys = false" />
    <Help v-if="help" @close="help = false" />
  </div>
</template>
