static double modulo(double a, double b) { return b == 0 ? 0 : a - b * floor(a / b); }
