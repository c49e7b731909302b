static int is_on(double state) { return state > 0.5; }
