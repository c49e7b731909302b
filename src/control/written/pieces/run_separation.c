/* With u = alpha + j beta and u' a quarter period ago: positive (u + j u')/2, negative (u - j u')/2, in components that
 * turn with the angle and against it. p: executions in a quarter; s: n pairs alpha, beta, the place of the oldest */
static void run_separation(const double *p, double *s, int n, const double *in, double *out)
{
  const int whole = (int)p[0], at = (int)s[2 * n];
  const double share = p[0] - whole, alpha = (2 * in[0] - in[1] - in[2]) / 3, beta = (in[1] - in[2]) / sqrt(3.0);
  s[2 * at] = alpha;
  s[2 * at + 1] = beta;
  const double *near = s + 2 * ((at + n - whole) % n), *far = s + 2 * ((at + n - whole - 1) % n);
  s[2 * n] = (at + 1) % n;
  const double then_alpha = near[0] + share * (far[0] - near[0]), then_beta = near[1] + share * (far[1] - near[1]);
  const double pa = (alpha - then_beta) / 2, pb = (beta + then_alpha) / 2;
  const double na = (alpha + then_beta) / 2, nb = (beta - then_alpha) / 2;
  const double c = cos(in[3]), sine = sin(in[3]);
  out[0] = pa * c + pb * sine;
  out[1] = pb * c - pa * sine;
  out[2] = na * c - nb * sine;
  out[3] = nb * c + na * sine;
}
