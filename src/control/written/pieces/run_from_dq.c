/* Three phases of rotating components. */
static void run_from_dq(const double *in, double *out)
{
  for (int k = 0; k < 3; ++k)
    out[k] = in[0] * cos(in[2] - k * (TURN / 3)) - in[1] * sin(in[2] - k * (TURN / 3));
}
