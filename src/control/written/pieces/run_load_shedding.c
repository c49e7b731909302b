/* The first load is kept to the last. p: after how long what fits comes back, margin, T; s: how long it has fitted, then
 * which loads are on */
static void run_load_shedding(const double *p, double *s, int loads, const double *in, double *out)
{
  const int lost = is_on(in[0]);
  const double available = in[1], *needs = in + 2;
  double *on = s + 1, kept = 0;
  int fits = 1, next = 0;
  for (int k = 0; k < loads; ++k) {
    fits = fits && !(lost && is_on(on[k]) && kept + needs[k] > available);
    if (lost && !fits) on[k] = 0;
    if (is_on(on[k])) kept += needs[k];
  }
  while (next < loads && is_on(on[next])) ++next;
  const int may = next < loads && (!lost || kept + needs[next] <= (1 - p[1]) * available);
  s[0] = may ? s[0] + p[2] : 0;
  if (may && s[0] >= p[0] - 1e-9 * p[2]) {
    on[next] = 1;
    kept += needs[next];
    s[0] = 0;
  }
  out[0] = 0;
  for (int k = 0; k < loads; ++k) {
    out[0] += !is_on(on[k]);
    out[1 + k] = on[k];
  }
  out[1 + loads] = kept;
}
