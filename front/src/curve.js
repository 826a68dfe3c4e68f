// What is computed of the curve at Decide: its points are rows of figures, in the order of the share acted on.
export const [SHARE, KEY, ACTED, EVENTS, PROFIT, LOW, HIGH, REFERRING] = [0, 1, 2, 3, 4, 5, 6, 8];

// The point nearest to a share.
export function nearest(points, share) {
  let [low, high] = [0, points.length - 1];
  while (high - low > 1) {
    const middle = (low + high) >> 1;
    if (points[middle][SHARE] < share) low = middle;
    else high = middle;
  }
  return share - points[low][SHARE] < points[high][SHARE] - share ? low : high;
}

// Which of the two cut-offs is nearer to a share.
export function nearerLine({ points, at, refer }, share) {
  if (refer === null) return "act";
  return Math.abs(points[refer][SHARE] - share) < Math.abs(points[at][SHARE] - share) ? "refer" : "act";
}

// What acting down to one point and referring down to another is worth.
export const worthAt = ({ points, at, refer }) => points[at][PROFIT] + (refer === null ? 0 : points[refer][REFERRING] - points[at][REFERRING]);

// Where the marks of a thousand customers stand: columns of rows, within a box; those with the event and the others.
export function placed(columns, { left, right, top, height }) {
  const step = (right - left) / columns.length;
  const rise = height / columns[0].length;
  const [events, others] = [[], []];
  columns.forEach((column, c) => {
    column.forEach((mark, r) => (mark ? events : others).push([left + step * (c + 0.5), top + rise * (r + 0.5)]));
  });
  return { events, others };
}
