export function initShelf() {}
