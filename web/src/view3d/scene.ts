/** The 3D view: draws only when something changed. Knows nothing of jobs: it is given meshes and says where it was clicked. */
import * as THREE from 'three'
import { acceleratedRaycast, MeshBVH } from 'three-mesh-bvh'
import { tideColors } from '../check/tide'
import type { Buffers } from '../api/client'

THREE.Mesh.prototype.raycast = acceleratedRaycast

export type Hit = { what: 'scan' | 'body'; place: THREE.Vector3; normal: THREE.Vector3; face: number }
type Pose = { quaternion: THREE.Quaternion; centre: THREE.Vector3; zoom: number }

/** Stone colours of scans shown together. */
export const STONES = [0xc9b48a, 0x7f9d7e, 0xb9776a, 0x7792b3, 0xa48bb0, 0x6e675e]
const BRICK = 0x9e2b2b, MOSS = 0x4c7a4a, SAND = 0xc9b48a, SLATE = 0x58789a, SAFFRON = 0xe79a12, INKBLUE = 0x1e3c66, INK = 0x23262a, PLUM = 0x85497a

function stone(color: number, extra: THREE.MeshStandardMaterialParameters = {}) {
  return new THREE.MeshStandardMaterial({ color, roughness: 0.95, metalness: 0, side: THREE.DoubleSide, ...extra })
}

export class Scene {
  readonly camera = new THREE.OrthographicCamera(-1, 1, 1, -1, -5000, 5000)
  private renderer: THREE.WebGLRenderer
  private scene = new THREE.Scene()
  private world = new THREE.Group()
  private scan: THREE.Mesh | null = null
  private body: THREE.Mesh | null = null
  private bodyEdges: THREE.LineSegments | null = null
  private points: THREE.Points | null = null
  private wire: THREE.LineSegments | null = null
  private others = new Map<string, THREE.Object3D>()
  private lit: THREE.Mesh | THREE.Points | null = null
  private colourful = true
  private extras = new THREE.Group()
  private light = new THREE.DirectionalLight(0xffffff, 2.1)
  private centre = new THREE.Vector3()
  private span = 60
  private frameAsked = 0
  private past: Pose[] = []
  private future: Pose[] = []
  private fitted = false
  private size = new THREE.Vector2(1, 1)
  drawn = 0
  onTurn: (q: THREE.Quaternion) => void = () => {}
  onHistory: (back: boolean, forward: boolean) => void = () => {}

  constructor(private canvas: HTMLCanvasElement) {
    this.renderer = new THREE.WebGLRenderer({ canvas, antialias: true, alpha: false, preserveDrawingBuffer: true })
    this.renderer.setPixelRatio(Math.min(window.devicePixelRatio, 2))
    this.scene.background = new THREE.Color(0xeee9e0)
    this.scene.add(this.world, this.extras, new THREE.HemisphereLight(0xffffff, 0xb8ab97, 1.25), this.camera)
    this.light.position.set(-0.35, 0.7, 1)
    this.camera.add(this.light, this.light.target) // the light turns with the viewer
    this.lookAlong(new THREE.Vector3(0.62, -0.95, 0.75), false)
  }

  dispose() {
    cancelAnimationFrame(this.frameAsked)
    this.renderer.dispose()
  }

  ask() {
    if (this.frameAsked) return
    this.frameAsked = requestAnimationFrame(() => {
      this.frameAsked = 0
      this.place()
      this.renderer.render(this.scene, this.camera)
      this.drawn++
      this.canvas.dataset.drawn = String(this.drawn)
    })
  }

  resize(w: number, h: number) {
    if (w < 2 || h < 2) return
    this.size.set(w, h)
    this.renderer.setSize(w, h, false)
    if (this.fitted) this.fit(false)
    this.ask()
  }

  private place() {
    const a = this.size.x / this.size.y
    const h = this.span
    Object.assign(this.camera, { left: -h * a, right: h * a, top: h, bottom: -h })
    this.camera.position.copy(this.centre)
    this.camera.updateProjectionMatrix()
    this.camera.updateMatrixWorld()
  }

  // What is shown.

  private dots(b: Buffers, colour: number) {
    const g = new THREE.BufferGeometry()
    g.setAttribute('position', new THREE.BufferAttribute(b.arrays.positions as Float32Array, 3))
    g.setAttribute('normal', new THREE.BufferAttribute(b.arrays.normals as Float32Array, 3))
    if (b.arrays.colors) for (const name of ['color', 'own']) g.setAttribute(name, new THREE.BufferAttribute(b.arrays.colors as Uint8Array, 3, true))
    if (b.arrays.some) g.setIndex(new THREE.BufferAttribute(b.arrays.some as Uint32Array, 1))
    return new THREE.Points(g, new THREE.PointsMaterial({ color: b.arrays.colors ? 0xffffff : colour, vertexColors: !!b.arrays.colors, size: 2.2, sizeAttenuation: false }))
  }

  private facets(b: Buffers) {
    const g = new THREE.BufferGeometry()
    g.setAttribute('position', new THREE.BufferAttribute(b.arrays.positions as Float32Array, 3))
    g.setAttribute('normal', new THREE.BufferAttribute(b.arrays.normals as Float32Array, 3))
    if (b.arrays.colors) g.setAttribute('own', new THREE.BufferAttribute(b.arrays.colors as Uint8Array, 3, true))
    g.setIndex(new THREE.BufferAttribute(b.arrays.indices as Uint32Array, 1))
    return g
  }

  setScan(b: Buffers | null, matrix: number[][] | null, colour = SAND) {
    for (const m of [this.scan, this.points, this.wire]) if (m) this.world.remove(m)
    this.setLit(null)
    this.scan = this.points = this.wire = null
    if (b && !b.arrays.indices) this.points = this.dots(b, colour)
    else if (b) {
      const g = this.facets(b)
      ;(g as any).boundsTree = new MeshBVH(g, { indirect: true } as any)
      // Pushed back a little, so that model and scan do not flicker through each other where they agree.
      this.scan = new THREE.Mesh(g, stone(colour, { polygonOffset: true, polygonOffsetFactor: 3, polygonOffsetUnits: 60 }))
    }
    const m = this.scan ?? this.points
    if (b && m) {
      m.userData.colour = colour
      m.userData.origin = new THREE.Vector3(...(b.header.origin as [number, number, number]))
      m.matrixAutoUpdate = false
      this.world.add(m)
    }
    this.plainColours()
    this.setMatrix(matrix)
  }

  /** Scans shown beside the one worked on, by id. */
  setOthers(list: { id: string; buffers: Buffers; colour: number; matrix?: number[][] | null }[], matrix: number[][] | null) {
    for (const [id, o] of this.others) if (!list.some((x) => x.id === id)) { this.world.remove(o); this.others.delete(id) }
    for (const x of list) {
      let o = this.others.get(x.id)
      if (!o || o.userData.buffers !== x.buffers) {
        if (o) this.world.remove(o)
        o = x.buffers.arrays.indices ? new THREE.Mesh(this.facets(x.buffers), stone(x.colour)) : this.dots(x.buffers, x.colour)
        o.userData = { buffers: x.buffers, colour: x.colour, origin: new THREE.Vector3(...(x.buffers.header.origin as [number, number, number])) }
        o.matrixAutoUpdate = false
        this.world.add(o)
        this.others.set(x.id, o)
      }
      const m = new THREE.Matrix4()
      const own = x.matrix ?? matrix
      if (own) m.set(...(own.flat() as Parameters<THREE.Matrix4['set']>))
      o.matrix.copy(m.multiply(new THREE.Matrix4().makeTranslation(o.userData.origin)))
      o.matrixWorldNeedsUpdate = true
    }
    this.ask()
  }

  /** The scan's own colours where it has them, else its stone's. */
  private plainColours() {
    if (!this.scan) return
    const m = this.scan.material as THREE.MeshStandardMaterial
    const own = this.scan.geometry.getAttribute('own')
    const on = !!own && this.colourful
    if (on) this.scan.geometry.setAttribute('color', own)
    if (m.vertexColors !== on) m.needsUpdate = true
    m.vertexColors = on
    m.color.set(on ? 0xffffff : this.scan.userData.colour)
  }
  setColourful(on: boolean) {
    this.colourful = on
    this.plainColours()
    this.ask()
  }

  /** Triangle edges over the scan. */
  setEdges(on: boolean) {
    if (this.wire) this.world.remove(this.wire)
    this.wire = null
    if (on && this.scan) {
      this.wire = new THREE.LineSegments(new THREE.WireframeGeometry(this.scan.geometry), new THREE.LineBasicMaterial({ color: INK, transparent: true, opacity: 0.28 }))
      this.wire.matrixAutoUpdate = false
      this.wire.matrix.copy(this.scan.matrix)
      this.world.add(this.wire)
    }
    this.ask()
  }

  setMatrix(matrix: number[][] | null) {
    const shown = this.scan ?? this.points
    if (!shown) return this.ask()
    const m = new THREE.Matrix4()
    if (matrix) m.set(...(matrix.flat() as Parameters<THREE.Matrix4['set']>))
    const o = shown.userData.origin as THREE.Vector3
    shown.matrix.copy(m).multiply(new THREE.Matrix4().makeTranslation(o.x, o.y, o.z))
    shown.matrixWorldNeedsUpdate = true
    shown.updateMatrixWorld(true)
    for (const x of [this.lit, this.wire]) if (x) { x.matrix.copy(shown.matrix); x.matrixWorldNeedsUpdate = true }
    this.ask()
  }

  setBody(b: Buffers | null) {
    for (const m of [this.body, this.bodyEdges]) if (m) this.world.remove(m)
    this.body = this.bodyEdges = null
    if (b) {
      const g = new THREE.BufferGeometry()
      g.setAttribute('position', new THREE.BufferAttribute(b.arrays.positions as Float32Array, 3))
      g.setAttribute('normal', new THREE.BufferAttribute(b.arrays.normals as Float32Array, 3))
      g.setIndex(new THREE.BufferAttribute((b.arrays.indices as Uint32Array).slice(), 1))
      ;(g as any).boundsTree = new MeshBVH(g, { indirect: true } as any)
      this.body = new THREE.Mesh(g, stone(SLATE, { polygonOffset: true, polygonOffsetFactor: 1, polygonOffsetUnits: 1 }))
      this.body.position.set(...(b.header.origin as [number, number, number]))
      const starts = b.arrays.edge_starts as Uint32Array
      const pts = b.arrays.edge_points as Float32Array
      const seg: number[] = []
      for (let i = 0; i + 1 < starts.length; i++)
        for (let k = starts[i]; k + 1 < starts[i + 1]; k++) seg.push(...pts.subarray(3 * k, 3 * k + 6))
      const lines = new THREE.BufferGeometry().setAttribute('position', new THREE.Float32BufferAttribute(seg, 3))
      this.bodyEdges = new THREE.LineSegments(lines, new THREE.LineBasicMaterial({ color: INK }))
      this.bodyEdges.position.copy(this.body.position)
      this.body.userData = { starts, pts, names: b.header.edge_names }
      this.world.add(this.body, this.bodyEdges)
    }
    this.ask()
  }

  setShown(scan: boolean, body: boolean, ghost: boolean) {
    for (const x of [this.scan, this.points, this.lit, this.wire]) if (x) x.visible = scan
    if (this.body) {
      this.body.visible = this.bodyEdges!.visible = body
      const m = this.body.material as THREE.MeshStandardMaterial
      if (m.transparent !== ghost) m.needsUpdate = true
      Object.assign(m, { transparent: ghost, opacity: ghost ? 0.35 : 1, depthWrite: !ghost })
    }
    this.ask()
  }

  setTide(distance: Float32Array | null, tolerance: number, reach: number) {
    if (!this.scan) return
    this.paint(this.scan, distance && tideColors(distance, tolerance, reach))
    if (!distance) this.plainColours()
    this.ask()
  }

  /** Coloured by its vertices, or in its stone's colour again. */
  private paint(o: THREE.Mesh | THREE.Points, colours: Uint8Array | null) {
    const m = o.material as THREE.MeshStandardMaterial | THREE.PointsMaterial
    const own = o instanceof THREE.Points ? o.geometry.getAttribute('own') : null
    const by = colours ? new THREE.BufferAttribute(colours, 3, true) : own
    if (by) o.geometry.setAttribute('color', by)
    if (m.vertexColors !== !!by) m.needsUpdate = true
    m.vertexColors = !!by
    m.color.set(by ? 0xffffff : o.userData.colour)
  }

  /** Scans lying together coloured by how far each is from the others, by id; null: each in its own stone's colour. */
  setApart(main: string, by: Map<string, Float32Array> | null, tolerance = 0, reach = 1) {
    const first = this.scan ?? this.points
    const all = [...this.others, ...(first ? [[main, first] as [string, THREE.Object3D]] : [])]
    for (const [id, o] of all) {
      const values = by?.get(id)
      this.paint(o as THREE.Mesh, values ? tideColors(values, tolerance, reach) : null)
    }
    if (!by) this.plainColours()
    this.ask()
  }

  /** Light facets (of a mesh) or points (of a cloud): what is picked, or in brick what would go. */
  setLit(facets: Uint32Array | null, goes = false) {
    if (this.lit) this.world.remove(this.lit)
    this.lit = null
    if (facets?.length && this.scan) {
      const index = this.scan.geometry.getIndex()!.array as Uint32Array
      const some = new Uint32Array(facets.length * 3)
      facets.forEach((f, i) => some.set(index.subarray(3 * f, 3 * f + 3), 3 * i))
      const g = new THREE.BufferGeometry()
      g.setAttribute('position', this.scan.geometry.getAttribute('position'))
      g.setAttribute('normal', this.scan.geometry.getAttribute('normal'))
      g.setIndex(new THREE.BufferAttribute(some, 1))
      this.lit = new THREE.Mesh(g, stone(goes ? BRICK : SAFFRON, { polygonOffset: true, polygonOffsetFactor: 1, polygonOffsetUnits: 30 }))
      this.lit.matrixAutoUpdate = false
      this.lit.matrix.copy(this.scan.matrix)
      this.world.add(this.lit)
    } else if (facets?.length && this.points) {
      const from = this.points.geometry.getAttribute('position').array as Float32Array
      const some = new Float32Array(facets.length * 3)
      facets.forEach((f, i) => some.set(from.subarray(3 * f, 3 * f + 3), 3 * i))
      const g = new THREE.BufferGeometry().setAttribute('position', new THREE.BufferAttribute(some, 3))
      this.lit = new THREE.Points(g, new THREE.PointsMaterial({ color: goes ? BRICK : SAFFRON, size: 3.4, sizeAttenuation: false, depthTest: true }))
      this.lit.renderOrder = 2
      this.lit.matrixAutoUpdate = false
      this.lit.matrix.copy(this.points.matrix)
      this.world.add(this.lit)
    }
    this.ask()
  }

  /** Planes, axes, traces and picked edges, in the coordinates shown. */
  setExtras(items: { plane?: { origin: number[]; normal: number[]; u?: number[]; size: number; colour?: string }; lines?: { points: number[][]; closed: boolean; colour: string }[]; axis?: { point: number[]; direction: number[]; length: number } }[]) {
    this.extras.clear()
    for (const it of items) {
      if (it.plane) {
        const g = new THREE.PlaneGeometry(it.plane.size, it.plane.size)
        const colour = it.plane.colour === 'plum' ? PLUM : SAFFRON
        const m = new THREE.Mesh(g, new THREE.MeshBasicMaterial({ color: colour, transparent: true, opacity: 0.16, side: THREE.DoubleSide, depthWrite: false }))
        m.quaternion.setFromUnitVectors(new THREE.Vector3(0, 0, 1), new THREE.Vector3(...(it.plane.normal as [number, number, number])))
        m.position.set(...(it.plane.origin as [number, number, number]))
        m.renderOrder = 2
        this.extras.add(m)
      }
      for (const l of it.lines ?? []) {
        const pts = l.points.map((p) => new THREE.Vector3(...(p as [number, number, number])))
        if (l.closed && pts.length) pts.push(pts[0])
        const colour = { saffron: SAFFRON, brick: BRICK, moss: MOSS, ink: INK }[l.colour] ?? INKBLUE
        const line = new THREE.Line(new THREE.BufferGeometry().setFromPoints(pts), new THREE.LineBasicMaterial({ color: colour, depthTest: l.colour === 'inkblue' || l.colour === 'ink', linewidth: 2 }))
        line.renderOrder = 3
        this.extras.add(line)
      }
      if (it.axis) {
        const p = new THREE.Vector3(...(it.axis.point as [number, number, number])), d = new THREE.Vector3(...(it.axis.direction as [number, number, number]))
        const g = new THREE.BufferGeometry().setFromPoints([p.clone().addScaledVector(d, -it.axis.length), p.clone().addScaledVector(d, it.axis.length)])
        const line = new THREE.Line(g, new THREE.LineBasicMaterial({ color: PLUM, depthTest: false }))
        line.renderOrder = 3
        this.extras.add(line)
      }
    }
    this.ask()
  }

  // Looking.

  private pose = (): Pose => ({ quaternion: this.camera.quaternion.clone(), centre: this.centre.clone(), zoom: this.span })
  /** Remember where we look before a deliberate change, for back and forward. */
  remember() {
    const last = this.past[this.past.length - 1], now = this.pose()
    if (last && last.zoom === now.zoom && last.centre.equals(now.centre) && last.quaternion.equals(now.quaternion)) return
    this.past.push(now)
    if (this.past.length > 60) this.past.shift()
    this.future = []
    this.onHistory(true, false)
  }
  private go(p: Pose) {
    this.camera.quaternion.copy(p.quaternion)
    this.centre.copy(p.centre)
    this.span = p.zoom
    this.onTurn(this.camera.quaternion)
    this.ask()
  }
  back() {
    const p = this.past.pop()
    if (p) { this.future.push(this.pose()); this.go(p) }
    this.onHistory(this.past.length > 0, this.future.length > 0)
  }
  forward() {
    const p = this.future.pop()
    if (p) { this.past.push(this.pose()); this.go(p) }
    this.onHistory(this.past.length > 0, this.future.length > 0)
  }

  lookAlong(from: THREE.Vector3, remember = true) {
    if (remember) this.remember()
    const up = Math.abs(from.clone().normalize().z) > 0.99 ? new THREE.Vector3(0, 1, 0) : new THREE.Vector3(0, 0, 1)
    this.camera.quaternion.setFromRotationMatrix(new THREE.Matrix4().lookAt(from, new THREE.Vector3(), up))
    this.onTurn(this.camera.quaternion)
    this.ask()
  }

  /** Everything shown, or a box given, fills the view. */
  fit(remember = true) {
    // The extent as seen: from vertices, not from boxes turned with the part.
    const inverse = this.camera.quaternion.clone().invert()
    const seen = new THREE.Box3(), p = new THREE.Vector3()
    for (const m of [this.scan, this.points, this.body, ...this.others.values()] as (THREE.Mesh | null)[]) {
      if (!m?.visible) continue
      m.updateWorldMatrix(true, false)
      const at = m.geometry.getAttribute('position') as THREE.BufferAttribute
      const index = m.geometry.getIndex() // what is set aside keeps its vertices but has no facets
      const count = index ? index.count : at.count
      const step = Math.max(1, Math.floor(count / 15000))
      for (let i = 0; i < count; i += step) seen.expandByPoint(p.fromBufferAttribute(at, index ? index.getX(i) : i).applyMatrix4(m.matrixWorld).applyQuaternion(inverse))
    }
    if (seen.isEmpty()) return
    if (remember) this.remember()
    const s = seen.getSize(new THREE.Vector3())
    this.centre.copy(seen.getCenter(new THREE.Vector3()).applyQuaternion(this.camera.quaternion))
    this.span = 0.5 * Math.max(s.y * 1.3, (s.x * 1.2 * this.size.y) / this.size.x)
    this.fitted = true
    this.ask()
  }

  /** Look closer at a place, from where we look. */
  closeTo(place: number[], size: number) {
    this.remember()
    this.fitted = false
    this.centre.set(...(place as [number, number, number]))
    this.span = Math.max(size, 0.05)
    this.ask()
  }

  /** How many mm a pixel is, and the direction to the viewer. */
  get scale() {
    return (2 * this.span) / this.size.y
  }
  get toward() {
    return new THREE.Vector3(0, 0, 1).applyQuaternion(this.camera.quaternion)
  }
  /** A place in the view's middle plane under a pixel. */
  under(x: number, y: number) {
    return this.at(x, y)
  }
  /** Seen face on, from a side given. */
  face(normal: number[]) {
    this.lookAlong(new THREE.Vector3(...(normal as [number, number, number])), false)
  }

  /** A vertical turntable: sideways turns about the part's z, up and down tips. */
  orbit(dx: number, dy: number) {
    this.fitted = false
    const k = 0.0085
    const spin = new THREE.Quaternion().setFromAxisAngle(new THREE.Vector3(0, 0, 1), -dx * k)
    const right = new THREE.Vector3(1, 0, 0).applyQuaternion(this.camera.quaternion)
    const tip = new THREE.Quaternion().setFromAxisAngle(right, -dy * k)
    this.camera.quaternion.premultiply(tip).premultiply(spin).normalize()
    this.onTurn(this.camera.quaternion)
    this.ask()
  }
  pan(dx: number, dy: number) {
    this.fitted = false
    const k = (2 * this.span) / this.size.y
    this.centre.add(new THREE.Vector3(-dx * k, dy * k, 0).applyQuaternion(this.camera.quaternion))
    this.ask()
  }
  zoom(factor: number, x: number, y: number) {
    this.fitted = false
    const before = this.at(x, y)
    this.span = Math.min(Math.max(this.span * factor, 0.05), 20000)
    this.place()
    this.centre.add(before.sub(this.at(x, y)))
    this.ask()
  }
  private at(x: number, y: number) {
    this.place()
    return new THREE.Vector3((2 * x) / this.size.x - 1, 1 - (2 * y) / this.size.y, 0).unproject(this.camera)
  }

  /** The scan shown beside the others that lies foremost at a pixel, and where it was hit. */
  hitOther(x: number, y: number): { id: string; place: THREE.Vector3 } | null {
    this.place()
    const caster = new THREE.Raycaster()
    caster.setFromCamera(new THREE.Vector2((2 * x) / this.size.x - 1, 1 - (2 * y) / this.size.y), this.camera)
    caster.ray.origin.addScaledVector(caster.ray.direction, -5000)
    caster.params.Points.threshold = 4 * this.scale
    let best: { id: string; place: THREE.Vector3; far: number } | null = null
    for (const [id, o] of this.others) {
      const h = caster.intersectObject(o, false)[0]
      if (h && (!best || h.distance < best.far)) best = { id, place: h.point, far: h.distance }
    }
    return best
  }

  hit(x: number, y: number, order: ('scan' | 'body')[]): Hit | null {
    this.place()
    const caster = new THREE.Raycaster()
    caster.setFromCamera(new THREE.Vector2((2 * x) / this.size.x - 1, 1 - (2 * y) / this.size.y), this.camera)
    caster.ray.origin.addScaledVector(caster.ray.direction, -5000) // an orthographic ray begins at the view's middle
    ;(caster as any).firstHitOnly = true
    if (order.includes('scan') && this.points) return this.nearestPoint(x, y, caster.ray)
    for (const what of order) {
      const mesh = what === 'scan' ? this.scan : this.body
      if (!mesh) continue
      const got = caster.intersectObject(mesh, false)[0]
      if (!got) continue
      const normal = got.face!.normal.clone().transformDirection(mesh.matrixWorld)
      if (normal.dot(caster.ray.direction) > 0) normal.negate()
      return { what, place: got.point, normal, face: got.faceIndex! }
    }
    return null
  }

  /** Of a cloud, the foremost point within a few pixels. */
  private nearestPoint(x: number, y: number, ray: THREE.Ray): Hit | null {
    const pos = this.points!.geometry.getAttribute('position') as THREE.BufferAttribute
    const nor = this.points!.geometry.getAttribute('normal') as THREE.BufferAttribute
    const m = new THREE.Matrix4().copy(this.camera.projectionMatrix).multiply(this.camera.matrixWorldInverse).multiply(this.points!.matrixWorld)
    const p = new THREE.Vector3()
    let best = -1, score = Infinity
    for (let i = 0; i < pos.count; i++) {
      p.fromBufferAttribute(pos, i).applyMatrix4(m)
      const d = Math.hypot(((p.x + 1) / 2) * this.size.x - x, ((1 - p.y) / 2) * this.size.y - y)
      if (d > 7) continue
      const s = d * 0.002 + p.z
      if (s < score) { score = s; best = i }
    }
    if (best < 0) return null
    const normal = new THREE.Vector3().fromBufferAttribute(nor, best).transformDirection(this.points!.matrixWorld)
    if (normal.dot(ray.direction) > 0) normal.negate()
    return { what: 'scan', place: p.fromBufferAttribute(pos, best).applyMatrix4(this.points!.matrixWorld).clone(), normal, face: best }
  }

  /** Where a place of the view is on the screen, in CSS pixels (used to steer the view in tests). */
  project(p: [number, number, number]) {
    this.place()
    const v = new THREE.Vector3(...p).project(this.camera)
    return { x: ((v.x + 1) / 2) * this.size.x, y: ((1 - v.y) / 2) * this.size.y }
  }
}
