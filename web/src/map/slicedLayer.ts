import Layer from "ol/layer/Layer";
import type { FrameState } from "ol/Map";

const MARGIN = 1.3; // the drawing is this many times wider and higher than the map, so that a drag shows no rim
const SLICE = 10; // milliseconds of drawing between two frames

/** Where a drawing is: middle, size of a pixel, and the canvas in pixels of the screen. */
export interface Sight {
  x: number;
  y: number;
  resolution: number;
  width: number;
  height: number;
  ratio: number;
}

/** Ground shown by a canvas: west, south, east, north. */
export function groundOf({ x, y, resolution, width, height }: Sight): [number, number, number, number] {
  const [across, up] = [(width / 2) * resolution, (height / 2) * resolution];
  return [x - across, y - up, x + across, y + up];
}

/** Whether a drawing still covers what is looked at, at the same scale. */
export function covers(drawn: Sight, wanted: Sight): boolean {
  if (drawn.resolution !== wanted.resolution || drawn.ratio !== wanted.ratio) return false;
  const [west, south, east, north] = groundOf(drawn);
  const [w, s, e, n] = groundOf({ ...wanted, width: wanted.width / MARGIN, height: wanted.height / MARGIN });
  return w >= west && s >= south && e <= east && n <= north;
}

/**
 * A layer that draws much without holding anything up: in slices of some milliseconds onto a canvas behind the one in
 * sight, which meanwhile is only moved and scaled with the map.
 */
export abstract class SlicedLayer extends Layer {
  private box = document.createElement("div");
  private seen = document.createElement("canvas");
  private back = document.createElement("canvas");
  private drawn: Sight | null = null;
  private drawing: Sight | null = null;
  private stale = true;
  private run = 0;

  constructor() {
    super({});
    this.box.style.cssText = "position:absolute;inset:0;overflow:hidden;pointer-events:none";
    for (const canvas of [this.seen, this.back]) canvas.style.cssText = "position:absolute;left:50%;top:50%";
    this.box.append(this.seen);
  }

  /** Draw what is to be seen; each `yield` is a place where drawing may stop until the next frame. */
  protected abstract paint(context: CanvasRenderingContext2D, sight: Sight): Generator<void, void>;

  /** Draw anew, because what is drawn or how has changed. */
  protected redraw(): void {
    this.stale = true;
    this.changed();
  }

  override getSourceState() {
    return "ready" as const;
  }

  override disposeInternal(): void {
    this.run += 1;
    super.disposeInternal();
  }

  override render(frame: FrameState | null): HTMLElement {
    if (!frame) return this.box;
    const [width = 1, height = 1] = frame.size;
    const { center, resolution } = frame.viewState;
    const sight: Sight = {
      x: center[0] ?? 0,
      y: center[1] ?? 0,
      resolution,
      width: Math.round(width * MARGIN),
      height: Math.round(height * MARGIN),
      ratio: frame.pixelRatio,
    };
    const moving = (frame.viewHints[0] ?? 0) > 0 || (frame.viewHints[1] ?? 0) > 0;
    const current = this.drawing ?? this.drawn;
    if (this.stale || !current || (!moving && !covers(current, sight))) this.begin(sight);
    this.place(sight);
    return this.box;
  }

  private place({ x, y, resolution }: Sight): void {
    const { drawn } = this;
    if (!drawn) return;
    const across = (drawn.x - x) / resolution;
    const down = (y - drawn.y) / resolution;
    this.seen.style.transform = `translate(-50%, -50%) translate(${across}px, ${down}px) scale(${drawn.resolution / resolution})`;
  }

  private begin(sight: Sight): void {
    this.stale = false;
    this.run += 1;
    this.drawing = sight;
    const { back, run } = this;
    back.width = sight.width * sight.ratio;
    back.height = sight.height * sight.ratio;
    back.style.width = `${sight.width}px`;
    back.style.height = `${sight.height}px`;
    const context = back.getContext("2d", { willReadFrequently: true });
    if (!context) return;
    const steps = this.paint(context, sight);
    const go = () => {
      if (run !== this.run) return; // drawn anew meanwhile, or taken away
      const until = performance.now() + SLICE;
      while (performance.now() < until) {
        if (!steps.next().done) continue;
        [this.seen, this.back] = [back, this.seen];
        this.drawn = sight;
        this.drawing = null;
        this.box.replaceChildren(this.seen);
        this.place(sight);
        this.changed();
        return;
      }
      requestAnimationFrame(go);
    };
    go();
  }
}
