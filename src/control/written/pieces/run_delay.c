/* What came in n executions ago. s: n values, the place of the oldest */
static void give_delay(const double *s, int n, double *out) { out[0] = s[(int)s[n]]; }

static void run_delay(double *s, int n, const double *in)
{
  s[(int)s[n]] = in[0];
  s[n] = ((int)s[n] + 1) % n;
}
