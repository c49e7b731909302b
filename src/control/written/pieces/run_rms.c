/* Over the last n executions. s: n squares, the place of the oldest */
static void run_rms(double *s, int n, const double *in, double *out)
{
  double sum = 0;
  s[(int)s[n]] = in[0] * in[0];
  s[n] = ((int)s[n] + 1) % n;
  for (int k = 0; k < n; ++k) sum += s[k];
  out[0] = sqrt(sum / n);
}
