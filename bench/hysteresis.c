/* The yardstick: a plain scalar Jiles-Atherton hysteresis, fourth-order Runge-Kutta,
   double precision, one sample at a time.  Jiles and Atherton, J. Magn. Magn. Mater. 61 (1986). */
#include <math.h>

static const double MS = 1.0, A = 0.22, ALPHA = 1.6e-3, K = 0.47, C = 0.17;

static double slope(double m, double h, double dh)
{
    double q = (h + ALPHA * m) / A, l, dl;
    if (fabs(q) < 1e-3) {
        l = q / 3.0;
        dl = 1.0 / 3.0;
    } else {
        double coth = 1.0 / tanh(q);
        l = coth - 1.0 / q;
        dl = 1.0 / (q * q) - coth * coth + 1.0;
    }
    double delta = dh >= 0.0 ? 1.0 : -1.0, gap = MS * l - m;
    double moves = delta * gap > 0.0 ? 1.0 : 0.0;
    double rise = (1.0 - C) * moves * gap / ((1.0 - C) * delta * K - ALPHA * gap);
    return (rise + C * MS / A * dl) / (1.0 - C * ALPHA * MS / A * dl) * dh;
}

void hysteresis(const double *x, double *y, long n)
{
    double m = 0.0, before = 0.0;
    for (long i = 0; i < n; i++) {
        double dh = x[i] - before, half = before + 0.5 * dh;
        double k1 = slope(m, before, dh);
        double k2 = slope(m + 0.5 * k1, half, dh);
        double k3 = slope(m + 0.5 * k2, half, dh);
        double k4 = slope(m + k3, x[i], dh);
        m += (k1 + 2.0 * k2 + 2.0 * k3 + k4) / 6.0;
        y[i] = m;
        before = x[i];
    }
}
