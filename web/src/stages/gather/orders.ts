/** How a part of an order stands while it is not here yet. */
export const OPEN = ["waiting", "making", "arriving", "taking in"];

/** What is said of it. */
export const WORDS: Record<string, string> = { waiting: "waiting", making: "being made", "taking in": "inspecting" };
