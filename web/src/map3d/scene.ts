import * as three from "three";
import { MapControls } from "three/examples/jsm/controls/MapControls.js";
import type { TilePath } from "../map/tilePath";
import { meeting } from "./meeting";
import { type Skin, SurfaceSkin } from "./skin";
import type { Ground } from "./tiles3d";

const SKY = "#E9E5D9";
const EYE = 45; // metres over the ground on a walk
const OVER = 0.3; // metres that a step's wall stands above the higher surface, so that no sky shows between them
const BELOW = 30; // how far a step's wall goes down behind the lower surface
const EMBER = new three.Color("#C2521B").convertLinearToSRGB();
const INDIGO = new three.Color("#3C4E9E").convertLinearToSRGB();
const AHEAD = 220; // metres that a walker looks ahead

/** A line on the ground, in metres from the frame's south-west. */
export interface Walk {
  x: number[];
  y: number[];
  heights: (number | null)[];
  distance: number[];
}

/** Surfaces in three dimensions: drawn when something has changed, and not otherwise. */
export class Scene {
  private readonly renderer: three.WebGLRenderer;
  private readonly scene = new three.Scene();
  private readonly camera = new three.PerspectiveCamera(45, 1, 1, 200_000);
  private readonly controls: MapControls;
  private skins: SurfaceSkin[] = [];
  private leaving: SurfaceSkin[] = [];
  private line: three.Line<three.BufferGeometry, three.Material> | null = null;
  private wall: three.Mesh<three.BufferGeometry, three.Material> | null = null;
  private asked = 0;
  private rise = 1;
  private readonly middle: [number, number];
  /** Told when a picture has been drawn: whether all of it is there, and what went wrong. */
  onDrawn: (whole: boolean, trouble: string) => void = () => undefined;
  /** Told at the same time, by whoever paints over the picture. */
  onPainted: () => void = () => undefined;

  constructor(
    canvas: HTMLCanvasElement,
    private readonly path: TilePath,
    private readonly ground: Ground,
    private readonly height: () => number,
  ) {
    this.renderer = new three.WebGLRenderer({ canvas, antialias: true });
    this.renderer.outputColorSpace = three.LinearSRGBColorSpace; // colours are painted as they are shown
    this.renderer.setPixelRatio(Math.min(window.devicePixelRatio || 1, 2));
    this.scene.background = new three.Color(SKY).convertLinearToSRGB();
    this.middle = [(ground.cols * ground.cell) / 2, (ground.rows * ground.cell) / 2];
    this.controls = new MapControls(this.camera, canvas);
    this.controls.enableDamping = false;
    this.controls.maxPolarAngle = 1.5;
    this.controls.minDistance = 20;
    this.controls.maxDistance = 4 * Math.max(...this.middle);
    this.controls.addEventListener("change", () => this.redraw());
  }

  /** Look at a place of the map from the south, so that about `span` metres of it are seen. */
  lookAt(x: number, y: number, span: number): void {
    const level = this.height() * this.rise;
    this.controls.target.set(x - this.middle[0], level, this.middle[1] - y);
    const far = span * 1.05;
    this.camera.position.set(x - this.middle[0], level + far * 0.62, this.middle[1] - y + far * 0.78);
    this.controls.update();
    this.redraw();
  }

  /** Turn about the place that is looked at, and come nearer or go away; for keys. */
  turn(by: number, up: number, nearer: number): void {
    const arm = this.camera.position.clone().sub(this.controls.target);
    const at = new three.Spherical().setFromVector3(arm);
    at.theta += by;
    at.phi = Math.min(Math.max(at.phi + up, 0.05), 1.5);
    at.radius = Math.max(at.radius * nearer, 20);
    this.camera.position.copy(this.controls.target).add(new three.Vector3().setFromSpherical(at));
    this.controls.update();
    this.redraw();
  }

  /** Show these surfaces, the first at the bottom. */
  show(skins: Skin[]): void {
    const rise = skins[0]?.rise ?? this.rise;
    if (rise !== this.rise) {
      const level = this.height();
      this.controls.target.y += level * (rise - this.rise);
      this.camera.position.y += level * (rise - this.rise);
      for (const one of [this.line, this.wall]) if (one) one.scale.y = rise;
      this.rise = rise;
    }
    const kept = this.skins;
    this.skins = skins.map((skin) => {
      const at = kept.findIndex((one) => one.shows(skin));
      const found = at < 0 ? undefined : kept.splice(at, 1)[0];
      if (found) {
        found.dress(skin);
        return found;
      }
      const made = new SurfaceSkin(this.path, this.ground, skin, () => this.redraw());
      this.scene.add(made.group);
      return made;
    });
    // what changes while it is looked at stays until what takes its place is there, so that nothing blurs
    const steady = skins.some((one) => one.steady);
    if (steady && !this.leaving.length) this.leaving = kept.splice(0);
    else if (!steady) kept.push(...this.leaving.splice(0));
    for (const one of kept) this.remove(one);
    this.redraw();
  }

  private remove(skin: SurfaceSkin): void {
    this.scene.remove(skin.group);
    skin.dispose();
  }

  /** What is seen: the surfaces, or those whose place they take as long as they are not there. */
  private get seen(): SurfaceSkin[] {
    return this.leaving.length ? this.leaving : this.skins;
  }

  private place(x: number, y: number, height: number): three.Vector3 {
    return new three.Vector3(x - this.middle[0], height, this.middle[1] - y);
  }

  /** Take something out of the scene, and give back what the GPU holds of it. */
  private discard(
    one: three.Line<three.BufferGeometry, three.Material> | three.Mesh<three.BufferGeometry, three.Material> | null,
  ) {
    if (!one) return;
    this.scene.remove(one);
    one.geometry.dispose();
    one.material.dispose();
  }

  /** Draw a line on the ground; null takes it away. */
  trace(walk: Walk | null): void {
    this.discard(this.line);
    this.line = null;
    const points = walk?.x.flatMap((x, i) => {
      const height = walk.heights[i];
      return height == null ? [] : [this.place(x, walk.y[i] as number, height + 2)];
    });
    if (points?.length) {
      const material = new three.LineBasicMaterial({ color: new three.Color("#1F2A30").convertLinearToSRGB() });
      this.line = new three.Line(new three.BufferGeometry().setFromPoints(points), material);
      this.line.scale.y = this.rise;
      this.scene.add(this.line);
    }
    this.redraw();
  }

  /** Close the step between two surfaces along a line, in the colour of the higher one; null opens it. */
  close(step: { x: number[]; y: number[]; a: (number | null)[]; b: (number | null)[] } | null): void {
    this.discard(this.wall);
    this.wall = null;
    const points: three.Vector3[] = [];
    const colours: number[] = [];
    step?.x.forEach((x, i) => {
      const ends = [i, i + 1].map((n) => [step.a[n] ?? null, step.b[n] ?? null] as const);
      const [[a, b], [nextA, nextB]] = ends as [(typeof ends)[0], (typeof ends)[0]];
      if (a === null || b === null || nextA === null || nextB === null) return;
      const [to, on] = [step.x[i + 1] as number, step.y[i + 1] as number];
      const y = step.y[i] as number;
      const low = this.place(x, y, Math.min(a, b) - BELOW);
      const high = this.place(x, y, Math.max(a, b) + OVER);
      const nextLow = this.place(to, on, Math.min(nextA, nextB) - BELOW);
      const nextHigh = this.place(to, on, Math.max(nextA, nextB) + OVER);
      points.push(low, nextLow, high, high, nextLow, nextHigh);
      const colour = a + nextA > b + nextB ? EMBER : INDIGO;
      for (let n = 0; n < 6; n++) colours.push(colour.r, colour.g, colour.b);
    });
    if (points.length) {
      const geometry = new three.BufferGeometry().setFromPoints(points);
      geometry.setAttribute("color", new three.Float32BufferAttribute(colours, 3));
      const material = new three.MeshBasicMaterial({
        vertexColors: true,
        side: three.DoubleSide,
        polygonOffset: true, // the skirts of tiles may hang in the same plane
        polygonOffsetFactor: -2,
        polygonOffsetUnits: -4,
      });
      this.wall = new three.Mesh(geometry, material);
      this.wall.scale.y = this.rise;
      this.scene.add(this.wall);
    }
    this.redraw();
  }

  /** Stand at a share of a line and look along it. */
  walk(walk: Walk, share: number): void {
    const length = walk.distance.at(-1) ?? 0;
    const at = (distance: number) => {
      const found = walk.distance.findIndex((one) => one >= distance);
      const i = found < 0 ? walk.distance.length - 1 : found;
      return this.place(walk.x[i] as number, walk.y[i] as number, (walk.heights[i] ?? this.height()) * this.rise);
    };
    const here = at(share * length);
    const there = at(Math.min(share * length + AHEAD, length));
    if (here.distanceTo(there) < 1) there.copy(here).add(here.clone().sub(at(Math.max(length - AHEAD, 0))));
    here.y += EYE;
    there.y += EYE * 0.55;
    this.camera.position.copy(here);
    this.controls.target.copy(there);
    this.controls.update();
    this.redraw();
  }

  /** How high the uppermost of the surfaces is at a place, in metres; null where all are empty or not yet loaded. */
  heightAt = (x: number, y: number): number | null => {
    const width = this.ground.cols * this.ground.cell;
    let highest: number | null = null;
    for (const one of this.seen) {
      const height = one.covers(x / width) ? one.heightAt(x, y) : null;
      if (height !== null && (highest === null || height > highest)) highest = height;
    }
    return highest;
  };

  /** The place on the ground that is seen at a pixel, in metres from the frame's south-west; null where it is sky. */
  placeAt(pixelX: number, pixelY: number): [number, number] | null {
    const { width, height } = this.size;
    const way = new three.Vector3((2 * pixelX) / width - 1, 1 - (2 * pixelY) / height, 0.5)
      .unproject(this.camera)
      .sub(this.camera.position);
    const { x, y, z } = this.camera.position;
    const far = 4 * Math.max(...this.middle) + 2 * this.controls.getDistance();
    const found = meeting(
      this.heightAt,
      [x + this.middle[0], this.middle[1] - z, y / this.rise],
      [way.x, -way.z, way.y / this.rise],
      far,
      this.ground.cell / 2,
    );
    return found && [found[0], found[1]];
  }

  /** Where a place on the ground is seen, in pixels; null where it is behind the eye or has no height. */
  pixelOf(x: number, y: number): [number, number] | null {
    const height = this.heightAt(x, y);
    if (height === null) return null;
    const { width, height: tall } = this.size;
    const seen = this.place(x, y, height * this.rise).project(this.camera);
    return seen.z > 1 ? null : [((seen.x + 1) / 2) * width, ((1 - seen.y) / 2) * tall];
  }

  /** Whether pressing and dragging moves the eye. */
  set isHeld(held: boolean) {
    this.controls.enabled = !held;
  }

  /** Metres of ground to a pixel, about, where it is seen at one. */
  resolutionAt(pixelX: number, pixelY: number): number {
    const [here, beside] = [this.placeAt(pixelX, pixelY), this.placeAt(pixelX + 1, pixelY)];
    return here && beside ? Math.hypot(here[0] - beside[0], here[1] - beside[1]) : this.ground.cell;
  }

  get canvas(): HTMLCanvasElement {
    return this.renderer.domElement;
  }

  private get size(): { width: number; height: number } {
    const { clientWidth, clientHeight } = this.renderer.domElement;
    return { width: Math.max(clientWidth, 1), height: Math.max(clientHeight, 1) };
  }

  resize(width: number, height: number): void {
    this.renderer.setSize(width, height, false);
    this.camera.aspect = width / Math.max(height, 1);
    this.camera.updateProjectionMatrix();
    this.redraw();
  }

  /** Draw at the next occasion. */
  redraw(): void {
    this.asked ||= requestAnimationFrame(() => {
      this.asked = 0;
      this.draw();
    });
  }

  private draw(): void {
    const { x, y, z } = this.camera.position;
    const eye: [number, number, number] = [x + this.middle[0], this.middle[1] - z, y / this.rise];
    for (const one of this.skins) one.look(eye, this.height());
    if (this.skins.every((one) => one.isWhole)) for (const one of this.leaving.splice(0)) this.remove(one);
    for (const one of this.skins) one.group.visible = !this.leaving.length;
    const away = this.camera.position.distanceTo(this.controls.target);
    this.camera.near = Math.max(away / 200, 1);
    this.camera.updateProjectionMatrix();
    this.renderer.render(this.scene, this.camera);
    this.onDrawn(
      this.skins.every((one) => one.isWhole),
      this.skins.map((one) => one.trouble).find(Boolean) ?? "",
    );
    this.onPainted();
  }

  /** What is seen, as a PNG. */
  picture(): Promise<Blob | null> {
    this.draw();
    return new Promise((done) => this.renderer.domElement.toBlob(done));
  }

  dispose(): void {
    cancelAnimationFrame(this.asked);
    this.asked = -1;
    this.controls.dispose();
    for (const one of [...this.skins, ...this.leaving]) one.dispose();
    this.discard(this.line);
    this.discard(this.wall);
    this.renderer.dispose();
  }
}
