export function initSpace() {}
export function reloadSpace() {}
