/* On two axles, each J dw/dt = ratio T - r F - friction by backward Euler, m dv/dt = F_front + F_rear - drag - m g
 * sin(slope). p: mass, drawn mass, wheelbase, height, share of weight in front, radius, ratio, efficiency, inertia of an
 * axle, rolling, drag area, brake force, adhesion, stiffness, T; s: speed, distance, acceleration, wheels' speeds, grip */
static void give_vehicle(const double *p, const double *s, double *out)
{
  for (int k = 0; k < 3; ++k) out[k] = s[k];
  out[3] = s[3] * p[6];
  out[4] = s[4] * p[6];
  out[5] = s[5];
}

static double braked(const double *p, double impulse, double friction)
{
  return copysign(most(fabs(impulse) - p[14] * friction, 0), impulse);
}

static double turn_axle(const double *p, double *s, int axle, double drive, double friction, double load)
{
  double *w = &s[3 + axle];
  const double r = p[5], slope = load * p[13] / most(most(fabs(s[0]), fabs(r * *w)), 0.5);
  const double limit = load * p[12], pushed = p[8] * *w + p[14] * drive;
  double next = braked(p, pushed + p[14] * r * slope * s[0], friction) / (p[8] + p[14] * r * r * slope);
  double force = slope * (r * next - s[0]);
  if (fabs(force) > limit) {
    force = copysign(limit, force);
    next = braked(p, pushed - p[14] * r * force, friction) / p[8];
  }
  *w = next;
  if (limit > 0) s[5] = most(s[5], fabs(force) / limit);
  return force;
}

static void run_vehicle(const double *p, double *s, const double *in)
{
  const double gravity = 9.80665, air = 1.2, all = p[0] + p[1], before = s[0];
  const double up = in[3] / hypot(1, in[3]), level = 1 / hypot(1, in[3]), weight = p[0] * gravity;
  const double moved = (p[0] * s[2] + weight * up) * p[3] / p[2];
  const double front = clamp(p[4] * weight * level - moved, 0, weight * level);
  const double loads[2] = {front, weight * level - front}, shares[2] = {p[4], 1 - p[4]};
  const double brake = clamp(in[2], 0, 1) * p[11];
  double force = -all * gravity * up;
  s[5] = 0;
  for (int k = 0; k < 2; ++k) {
    const double drive = in[k] * p[6] * (in[k] * s[3 + k] >= 0 ? p[7] : 1 / p[7]);
    force += turn_axle(p, s, k, drive, p[5] * (shares[k] * brake + p[9] * loads[k]), loads[k]);
  }
  force -= 0.5 * air * p[10] * s[0] * fabs(s[0]);
  s[2] = (braked(p, all * s[0] + p[14] * force, p[9] * p[1] * gravity * level) - all * s[0]) / p[14] / all;
  s[0] += p[14] * s[2];
  s[1] += p[14] * (before + s[0]) / 2;
}
