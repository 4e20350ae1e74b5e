import { useDesk } from "../desk/store";
import type { Tool } from "./tool";

/** Draws the line of the profile. It has one owner, so that a key takes it up as well as the tab. */
export const PROFILE_TOOL = {
  kind: "line",
  owner: "profile",
  done: (line) => useDesk.getState().set({ line }),
} satisfies Tool;
