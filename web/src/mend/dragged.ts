/** Tells by how many pixels the pointer moved since the last time, from its press on something until it is let go. */
export function dragged(begin: React.PointerEvent, move: (dx: number, dy: number) => void): void {
  const target = begin.currentTarget as HTMLElement;
  target.setPointerCapture(begin.pointerId);
  let [x, y] = [begin.clientX, begin.clientY];
  const moved = (event: PointerEvent) => {
    move(event.clientX - x, event.clientY - y);
    [x, y] = [event.clientX, event.clientY];
  };
  const done = () => {
    target.removeEventListener("pointermove", moved);
    for (const end of ["pointerup", "pointercancel"]) target.removeEventListener(end, done);
  };
  target.addEventListener("pointermove", moved);
  for (const end of ["pointerup", "pointercancel"]) target.addEventListener(end, done);
}
