// Figures as the pages write them: thin spaces, a true minus sign.
const THIN = "\u202f";

export function fixed(x, decimals) {
  if (!Number.isFinite(x)) return "–";
  const text = Math.abs(x).toFixed(decimals);
  const [whole, rest] = text.split(".");
  const grouped = whole.replace(/\B(?=(\d{3})+$)/g, THIN);
  const sign = x < 0 && Number(text) !== 0 ? "−" : "";
  return sign + grouped + (rest ? `.${rest}` : "");
}

export const money = (x) => (Math.abs(x) >= 100 ? fixed(x, 0) : fixed(x, 2));
export const percent = (share) => `${fixed(share * 100, 1)}${THIN}%`;
// Writes the marks of an axis alike: with as many decimals as tell neighbours apart.
export function marks(values) {
  const step = values.length > 1 ? Math.abs(values[1] - values[0]) : 1;
  const decimals = Math.max(0, Math.ceil(-Math.log10(step) - 1e-9));
  return (x) => fixed(x, decimals);
}

export const short = (x) => (Math.abs(x) >= 1000 || Number.isInteger(x) ? fixed(x, 0) : fixed(x, Math.abs(x) >= 10 ? 1 : 2));
