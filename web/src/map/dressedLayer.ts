import { CloudPainter } from "./cloudPainter";
import type { LinesPainter } from "./linesPainter";
import type { PointsPainter } from "./pointsPainter";
import { type Sight, SlicedLayer } from "./slicedLayer";

type Painter = CloudPainter | LinesPainter | PointsPainter;

/** Everything but surfaces on one canvas: clouds at the bottom, then lines and areas, then points. */
export class DressedLayer extends SlicedLayer {
  private painters: Painter[] = [];

  /** Draw these, in this order. */
  show(painters: Painter[]): void {
    if (painters.length === this.painters.length && painters.every((one, i) => one === this.painters[i])) return;
    for (const one of this.painters) one.onChange = () => undefined;
    for (const one of painters) one.onChange = () => this.redraw();
    this.painters = painters;
    this.redraw();
  }

  protected override *paint(context: CanvasRenderingContext2D, sight: Sight): Generator<void, void> {
    const clouds = this.painters.filter((one) => one instanceof CloudPainter);
    const { width, height } = context.canvas;
    if (clouds.length) {
      const image = context.createImageData(width, height);
      const pixels = new Uint32Array(image.data.buffer);
      for (const one of clouds) yield* one.paint(pixels, width, height, sight);
      context.putImageData(image, 0, 0);
      yield;
    }
    for (const one of this.painters) {
      if (one instanceof CloudPainter) continue;
      context.save();
      yield* one.paint(context, sight);
      context.restore();
    }
  }
}
