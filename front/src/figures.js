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
export const signed = (x) => (x > 0 ? `+${fixed(x, 2)}` : fixed(x, 2));
export const short = (x) => (Math.abs(x) >= 1000 || Number.isInteger(x) ? fixed(x, 0) : fixed(x, Math.abs(x) >= 10 ? 1 : 2));
