static double most(double a, double b) { return a < b ? b : a; }
