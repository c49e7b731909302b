/* Direct form II transposed, of order n. p: coefficients of u, then of y, from z^0 on; s: n + 1 sums */
static void run_transfer(const double *p, double *s, int n, const double *in, double *out)
{
  const double *a = p + n + 1;
  out[0] = p[0] * in[0] + s[0];
  for (int k = 1; k <= n; ++k) s[k - 1] = p[k] * in[0] - a[k] * out[0] + (k < n ? s[k] : 0);
}
