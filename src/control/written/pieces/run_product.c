static void run_product(int n, const double *in, double *out)
{
  out[0] = 1;
  for (int k = 0; k < n; ++k) out[0] *= in[k];
}
