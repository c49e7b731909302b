static void run_and(int n, const double *in, double *out)
{
  out[0] = 1;
  for (int k = 0; k < n; ++k) if (!is_on(in[k])) out[0] = 0;
}
