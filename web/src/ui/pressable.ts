import type { KeyboardEvent, MouseEvent } from "react";

/** What makes a row of a table something that is pressed, by the pointer or with Enter and the space bar. */
export function pressable(press: (event: MouseEvent | KeyboardEvent) => void) {
  return {
    tabIndex: 0,
    onClick: press,
    onKeyDown: (event: KeyboardEvent) => {
      if (event.target !== event.currentTarget || (event.key !== "Enter" && event.key !== " ")) return;
      event.preventDefault();
      press(event);
    },
  };
}
