/* An angle that turns with a frequency. p: T */
static void run_rotor(const double *p, const double *in, double *out) { out[0] = fmod(out[0] + TURN * in[0] * p[0], TURN); }
