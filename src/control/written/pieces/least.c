static double least(double a, double b) { return b < a ? b : a; }
