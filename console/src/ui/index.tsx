/** The components that pages are composed of. */

export { Button, IconButton } from "./button";
export { Chip } from "./chip";
export { DayField } from "./day";
export { Dialog, DialogActions } from "./dialog";
export { Empty, FormError, Loading, Notice } from "./states";
export { FileIcon } from "./file-icon";
export { Face } from "./face";
export { Choice, Field, NewPassword } from "./field";
export { Picker, type Choosable } from "./picker";
export { Portrait } from "./portrait";
export { Frame, Bare } from "./frame";
export { ActsArea, ActsMenu, Menu, MenuItem, MenuLine, type Act } from "./menu";
export { useWidth } from "./width";
export { ToastProvider, useToast } from "./toast";
