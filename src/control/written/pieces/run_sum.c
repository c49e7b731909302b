/* y = gain (sum of the inputs) */
static void run_sum(const double *p, int n, const double *in, double *out)
{
  double sum = 0;
  for (int k = 0; k < n; ++k) sum += in[k];
  out[0] = p[0] * sum;
}
