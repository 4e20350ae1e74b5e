import { useEffect, useLayoutEffect, useRef, useState } from "react";

/** A canvas that fills its parent and is drawn anew, sharp, whenever what is drawn or its size changes. */
export function useChart(draw: (context: CanvasRenderingContext2D, width: number, height: number) => void) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const [size, setSize] = useState<[number, number]>([600, 120]);
  useLayoutEffect(() => {
    const measure = () => {
      const box = canvas.current?.parentElement?.getBoundingClientRect();
      if (box?.width) setSize([box.width, box.height]);
    };
    measure();
    window.addEventListener("resize", measure);
    return () => window.removeEventListener("resize", measure);
  }, []);
  useEffect(() => {
    const context = canvas.current?.getContext("2d");
    if (!context || !canvas.current) return;
    const ratio = window.devicePixelRatio || 1;
    [canvas.current.width, canvas.current.height] = [size[0] * ratio, size[1] * ratio];
    context.setTransform(ratio, 0, 0, ratio, 0, 0);
    draw(context, size[0], size[1]);
  });
  return { canvas, size };
}
