import { Lens } from "./Lens";
import { MendTools } from "./MendTools";
import { useMend } from "./state";

/** What lies over the map while a surface is mended. */
export function MendMap() {
  const lens = useMend((mend) => mend.lens !== null);
  return (
    <>
      <MendTools />
      {lens && <Lens />}
    </>
  );
}
