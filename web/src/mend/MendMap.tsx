import { useDesk } from "../desk/store";
import { Lens } from "./Lens";
import { MendTools } from "./MendTools";
import { useMend } from "./state";

/** What lies over the map while a surface is mended. */
export function MendMap() {
  const lens = useMend((mend) => mend.lens !== null);
  const flat = useDesk((desk) => desk.bench === "map"); // images lie flat
  return (
    <>
      <MendTools />
      {lens && flat && <Lens />}
    </>
  );
}
