/* Straight between n points x, y, held beyond them. */
static double interpolate(const double *points, int n, double x)
{
  if (n == 0) return 0;
  if (x <= points[0]) return points[1];
  for (int k = 1; k < n; ++k) {
    const double *one = points + 2 * (k - 1), *next = one + 2;
    if (x <= next[0]) return one[1] + (x - one[0]) / (next[0] - one[0]) * (next[1] - one[1]);
  }
  return points[2 * n - 1];
}
