import { num } from "../desk/format";

/** A bar of a round length, at most about 80 pixels long. */
export function ScaleBar({ resolution }: { resolution: number }) {
  const most = resolution * 80;
  const power = 10 ** Math.floor(Math.log10(most));
  const length = [5, 2, 1].map((digit) => digit * power).find((value) => value <= most) ?? power;
  const width = length / resolution;
  const text = length >= 1000 ? `${num(length / 1000)} km` : `${num(length, length < 1 ? 2 : 0)} m`;
  return (
    <div className="scale" role="img" aria-label={`Scale: ${text}`}>
      <svg width={width + 2} height="8" viewBox={`0 0 ${width + 2} 8`} aria-hidden="true">
        <path d={`M1 1v5h${width}V1M${1 + width / 2} 3.5V6`} />
      </svg>
      <span className="n">{text}</span>
    </div>
  );
}
