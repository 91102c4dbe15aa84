// @ts-check
/** How near to a handle or a key of a way it is grabbed, px. */
export const GRAB_PX = 11;
