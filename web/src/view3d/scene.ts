/**
 * A 3D view that draws only when something changed: the camera, looking about, and what a
 * pixel's ray meets.
 */
import * as THREE from 'three'
import { BOUNCED, GROUND } from './stone'
import { acceleratedRaycast } from 'three-mesh-bvh'
import { drawnInSoftware } from './software'

THREE.Mesh.prototype.raycast = acceleratedRaycast

type Pose = { quaternion: THREE.Quaternion; centre: THREE.Vector3; zoom: number }
/** A section: across an axis of what is shown, at a share of its length, seen from one side or the other. */
export type Cut = { axis: 'x' | 'y' | 'z'; share: number; flip: boolean }
export type Solid = THREE.Mesh | THREE.Points

const FAR = 5000 // an orthographic ray begins at the view's middle

export class Scene {
  readonly camera = new THREE.OrthographicCamera(-1, 1, 1, -1, -FAR, FAR)
  readonly world = new THREE.Group()
  /** What fills the view when it is fitted. */
  extent: () => Solid[] = () => []
  private renderer: THREE.WebGLRenderer
  private scene = new THREE.Scene()
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
  /** Told after every picture: what lies over the view follows it. */
  onDrawn: () => void = () => {}
  onHistory: (back: boolean, forward: boolean) => void = () => {}

  constructor(private canvas: HTMLCanvasElement) {
    this.renderer = new THREE.WebGLRenderer({
      canvas,
      antialias: !drawnInSoftware(), // three times as fast where the processor draws
      alpha: false,
      preserveDrawingBuffer: true,
    })
    this.renderer.setPixelRatio(Math.min(window.devicePixelRatio, 2))
    this.scene.background = new THREE.Color(GROUND)
    this.scene.add(this.world, new THREE.HemisphereLight(0xffffff, BOUNCED, 1.25), this.camera)
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
      this.onDrawn()
    })
  }

  /**
   * Take away what lies beyond a plane across an axis, at a share of the way through all that is shown; where
   * that is on the axis.
   */
  cutAt(cut: Cut | null) {
    const box = new THREE.Box3()
    if (cut) for (const m of this.extent()) box.expandByObject(m)
    this.renderer.clippingPlanes = []
    let at: number | null = null
    if (cut && !box.isEmpty()) {
      const k = 'xyz'.indexOf(cut.axis)
      at = box.min.getComponent(k) + cut.share * (box.max.getComponent(k) - box.min.getComponent(k))
      const normal = new THREE.Vector3().setComponent(k, cut.flip ? 1 : -1)
      this.renderer.clippingPlanes = [new THREE.Plane(normal, cut.flip ? -at : at)]
    }
    this.ask()
    return at
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
    Object.assign(this.camera, {
      left: -h * a,
      right: h * a,
      top: h,
      bottom: -h,
      near: -this.deep,
      far: this.deep,
    })
    this.camera.position.copy(this.centre)
    this.camera.updateProjectionMatrix()
    this.camera.updateMatrixWorld()
  }
  /** Half the depth that is drawn: more than any part seen at this span reaches. */
  private get deep() {
    return Math.max(FAR, 60 * this.span)
  }

  // Looking.

  private pose = (): Pose => ({
    quaternion: this.camera.quaternion.clone(),
    centre: this.centre.clone(),
    zoom: this.span,
  })
  /** Remember where we look before a deliberate change, for back and forward. */
  remember() {
    const last = this.past[this.past.length - 1],
      now = this.pose()
    if (
      last &&
      last.zoom === now.zoom &&
      last.centre.equals(now.centre) &&
      last.quaternion.equals(now.quaternion)
    )
      return
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
    if (p) {
      this.future.push(this.pose())
      this.go(p)
    }
    this.onHistory(this.past.length > 0, this.future.length > 0)
  }
  forward() {
    const p = this.future.pop()
    if (p) {
      this.past.push(this.pose())
      this.go(p)
    }
    this.onHistory(this.past.length > 0, this.future.length > 0)
  }

  lookAlong(from: THREE.Vector3, remember = true) {
    if (remember) this.remember()
    const up =
      Math.abs(from.clone().normalize().z) > 0.99 ? new THREE.Vector3(0, 1, 0) : new THREE.Vector3(0, 0, 1)
    this.camera.quaternion.setFromRotationMatrix(new THREE.Matrix4().lookAt(from, new THREE.Vector3(), up))
    this.onTurn(this.camera.quaternion)
    this.ask()
  }

  /** Everything shown, or a box given, fills the view. */
  fit(remember = true) {
    // The extent as seen: from vertices, not from boxes turned with the part.
    const inverse = this.camera.quaternion.clone().invert()
    const seen = new THREE.Box3(),
      p = new THREE.Vector3()
    for (const m of this.extent()) {
      if (!m.visible) continue
      m.updateWorldMatrix(true, false)
      const at = m.geometry.getAttribute('position') as THREE.BufferAttribute
      const index = m.geometry.getIndex() // what is set aside keeps its vertices but has no facets
      const count = index ? index.count : at.count
      const step = Math.max(1, Math.floor(count / 15000))
      for (let i = 0; i < count; i += step)
        seen.expandByPoint(
          p
            .fromBufferAttribute(at, index ? index.getX(i) : i)
            .applyMatrix4(m.matrixWorld)
            .applyQuaternion(inverse),
        )
    }
    if (seen.isEmpty()) return
    if (remember) this.remember()
    const s = seen.getSize(new THREE.Vector3())
    this.centre.copy(seen.getCenter(new THREE.Vector3()).applyQuaternion(this.camera.quaternion))
    this.span = 0.5 * Math.max(s.y * 1.3, (s.x * 1.2 * this.size.y) / this.size.x)
    this.fitted = true
    this.ask()
  }

  /** Where we look from, as it can be kept: to the viewer, up, the middle and the height that is seen. */
  get looking() {
    const up = new THREE.Vector3(0, 1, 0).applyQuaternion(this.camera.quaternion)
    return {
      toward: this.toward.toArray(),
      up: up.toArray(),
      middle: this.centre.toArray(),
      span: 2 * this.span,
    }
  }
  /** Look as was kept. */
  lookAs(view: { toward: number[]; up: number[]; middle: number[]; span: number }) {
    this.remember()
    this.fitted = false
    const at = (p: number[]) => new THREE.Vector3(...(p as [number, number, number]))
    this.camera.quaternion.setFromRotationMatrix(
      new THREE.Matrix4().lookAt(at(view.toward), new THREE.Vector3(), at(view.up)),
    )
    this.centre.copy(at(view.middle))
    this.span = 0.5 * view.span
    this.onTurn(this.camera.quaternion)
    this.ask()
  }

  /** Look closer at a place, from where we look. */
  closeTo(place: number[], size: number) {
    this.remember()
    this.fitted = false
    this.centre.set(...(place as [number, number, number]))
    this.span = Math.max(size, 1e-3)
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
    this.span = Math.min(Math.max(this.span * factor, 1e-3), 1e6)
    this.place()
    this.centre.add(before.sub(this.at(x, y)))
    this.ask()
  }
  private at(x: number, y: number) {
    this.place()
    return new THREE.Vector3((2 * x) / this.size.x - 1, 1 - (2 * y) / this.size.y, 0).unproject(this.camera)
  }

  /** The ray that a pixel looks along. */
  ray(x: number, y: number): THREE.Raycaster {
    this.place()
    const caster = new THREE.Raycaster()
    const at = new THREE.Vector2((2 * x) / this.size.x - 1, 1 - (2 * y) / this.size.y)
    caster.setFromCamera(at, this.camera)
    caster.ray.origin.addScaledVector(caster.ray.direction, -this.deep)
    caster.params.Points.threshold = 4 * this.scale
    const cut = this.renderer.clippingPlanes[0]
    if (cut) {
      // What is cut away is not met.
      const { origin, direction } = caster.ray
      const slope = cut.normal.dot(direction)
      const far = Math.abs(slope) > 1e-9 ? -cut.distanceToPoint(origin) / slope : Infinity
      if (slope > 0) caster.near = Math.max(0, far)
      else if (slope < 0) caster.far = Math.max(0, far)
    }
    return caster
  }

  /** Where a place of the view is on the screen, in CSS pixels. */
  project(p: number[]) {
    this.place()
    const v = new THREE.Vector3(...(p as [number, number, number])).project(this.camera)
    return { x: ((v.x + 1) / 2) * this.size.x, y: ((1 - v.y) / 2) * this.size.y }
  }
  /** From places to pixels, and how deep they lie: for many places at once. */
  toPixels(world: THREE.Matrix4): (p: THREE.Vector3) => THREE.Vector3 {
    this.place()
    const m = new THREE.Matrix4().copy(this.camera.projectionMatrix)
    m.multiply(this.camera.matrixWorldInverse).multiply(world)
    return (p) => {
      p.applyMatrix4(m)
      return p.set(((p.x + 1) / 2) * this.size.x, ((1 - p.y) / 2) * this.size.y, p.z)
    }
  }
}
