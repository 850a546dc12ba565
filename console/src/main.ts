/** The console's entry: styles, theme, and the application itself. */
import "carbon-components-svelte/css/all.css";
import "@fontsource/ibm-plex-sans/latin-400.css";
import "@fontsource/ibm-plex-sans/latin-600.css";
import "@fontsource/ibm-plex-mono/latin-400.css";
import "./theme.css";
import "./styles.css";

import { mount } from "svelte";

import App from "./shell/App.svelte";
import { applyTheme } from "./lib/theme.svelte";

applyTheme();
const target = document.getElementById("app");
if (target) mount(App, { target });
