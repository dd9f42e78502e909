export function initPrint() {}
