/** How charts look, all alike: lines of the grid, figures at the axes, what is told where one points. */
export const gridLook = { stroke: 'var(--line)', strokeDasharray: '2 3' }
export const tickLook = { fontSize: 10.5, fill: 'var(--muted)' }
export const tipLook = { background: 'var(--sheet)', border: '1px solid var(--line)', borderRadius: 3, fontSize: 12, padding: '3px 8px' }
