static void run_or(int n, const double *in, double *out)
{
  out[0] = 0;
  for (int k = 0; k < n; ++k) if (is_on(in[k])) out[0] = 1;
}
