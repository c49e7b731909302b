/* p: low, high, rise and fall per second, T */
static void run_limiter(const double *p, const double *in, double *out)
{
  out[0] = clamp(clamp(in[0], p[0], p[1]), out[0] - p[3] * p[4], out[0] + p[2] * p[4]);
}
