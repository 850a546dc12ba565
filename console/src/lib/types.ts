/** The API's records as the console uses them; their meaning is in /openapi.json. */
export type * from "./types/fleet";
export type * from "./types/assets";
export type * from "./types/use";
export type * from "./types/logs";
export type * from "./types/operations";
export type * from "./types/live";
