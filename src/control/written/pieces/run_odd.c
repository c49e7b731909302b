/* Exclusive or. */
static void run_odd(int n, const double *in, double *out)
{
  out[0] = 0;
  for (int k = 0; k < n; ++k) if (is_on(in[k])) out[0] = 1 - out[0];
}
