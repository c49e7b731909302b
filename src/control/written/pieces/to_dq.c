/* Rotating components of three phases, amplitudes kept (Park). */
static void to_dq(const double *abc, double angle, double *dq0)
{
  dq0[0] = dq0[1] = dq0[2] = 0;
  for (int k = 0; k < 3; ++k) {
    dq0[0] += 2.0 / 3 * abc[k] * cos(angle - k * (TURN / 3));
    dq0[1] -= 2.0 / 3 * abc[k] * sin(angle - k * (TURN / 3));
    dq0[2] += abc[k] / 3;
  }
}
