static void run_setpoint(const double *p, double *out) { out[0] = p[0]; }
