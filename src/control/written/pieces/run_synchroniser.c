/* p: least voltage, difference of voltages, of frequencies, of angles, closing time, how long all must hold, T; s: how
 * long they have */
static void run_synchroniser(const double *p, double *s, const double *in, double *out)
{
  const double slip = in[1] - in[4], angle = remainder(in[2] - in[5], TURN);
  const double meets = remainder(angle + TURN * slip * p[4], TURN);
  const int holds = least(in[0], in[3]) > p[0] && fabs(in[0] - in[3]) <= p[1] * most(in[0], in[3]) &&
                    fabs(slip) <= p[2] && fabs(meets) <= p[3];
  s[0] = holds ? s[0] + p[6] : 0;
  out[0] = holds && s[0] >= p[5] - 1e-9 * p[6];
  out[1] = angle;
  out[2] = slip;
}
