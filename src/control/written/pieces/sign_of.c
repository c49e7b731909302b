static double sign_of(double x) { return x > 0 ? 1 : x < 0 ? -1 : 0; }
