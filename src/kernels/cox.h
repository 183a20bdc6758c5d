// Weighted Cox regression, ties by Efron: the sums of Newton's method from one walk back in time, where who is at risk
// only grows. Methods, "Effects".
#pragma once
#include "newton.h"
#include <numeric>
#include <utility>

namespace twin {
struct CoxFit {
  FitStatus status = FitStatus::not_converged;
  VectorXd coefficients;    // raw scale, 0 where not active
  MatrixXd covariance;      // inverse information, 0 in rows and columns that are not active
  std::vector<int> active;  // columns (0-based) with a coefficient
};

class CoxSums final : public SumsSource {
 public:
  // x: q x n, a column per unit, latest first, each covariate centred and scaled; event: 0 or 1; weight: above 0.
  CoxSums(MatrixXd x, VectorXd time, VectorXd event, VectorXd weight)
      : x_(std::move(x)), time_(std::move(time)), event_(std::move(event)), weight_(std::move(weight)) {}

  // With d deaths at a time, f_j = j / d and m the mean of their weights (Efron 1977):
  //   m sum_j log D_j,  D_j = S0 - f_j T0,  is taken from the sum of weight * linear predictor over the deaths,
  // S over those at risk, T over the deaths, of weight * risk times 1, x and xx'.
  void evaluate(RegressionState& at) override {
    const Index q = x_.rows();
    const VectorXd linear = x_.transpose() * at.beta;
    at.loglik = 0.0;
    at.gradient = VectorXd::Zero(q);
    at.information = MatrixXd::Zero(q, q);
    Moments risk(q), died(q);
    for_each_time([&](Index from, Index to) {
      died.clear();
      double deaths = 0.0, weights = 0.0;
      for (Index i = from; i < to; ++i) {
        const double hazard = weight_[i] * std::exp(linear[i]);
        risk.add(hazard, x_.col(i));
        if (event_[i] != 1.0) continue;
        died.add(hazard, x_.col(i));
        deaths += 1.0;
        weights += weight_[i];
        at.loglik += weight_[i] * linear[i];
        at.gradient += weight_[i] * x_.col(i);
      }
      if (deaths > 0.0) take_deaths(at, risk, died, deaths, weights / deaths);
    });
    at.information.triangularView<Eigen::StrictlyUpper>() = at.information.transpose();
  }

  void slope(RegressionState& at) override {
    const MatrixXd information = at.information;
    evaluate(at);
    at.information = information;
  }

  void predict(RegressionState&) override {}

  // The likelihood rises for ever along a direction in which nobody at risk goes before those who die. least: how far
  // somebody does, most: how far the dying go before the others.
  Reach reach(const VectorXd& direction, bool) override {
    const VectorXd along = x_.transpose() * direction;
    Reach out;
    double highest = -HUGE_VAL, lowest = HUGE_VAL;
    for_each_time([&](Index from, Index to) {
      highest = std::max(highest, along.segment(from, to - from).maxCoeff());
      lowest = std::min(lowest, along.segment(from, to - from).minCoeff());
      for (Index i = from; i < to; ++i) {
        if (event_[i] != 1.0) continue;
        out.least = std::min(out.least, along[i] - highest);
        out.most = std::max(out.most, along[i] - lowest);
      }
    });
    return out;
  }

  const VectorXd& pull() const override { return none_; }

 private:
  struct Moments {
    explicit Moments(Index q) : one(0.0), x(VectorXd::Zero(q)), xx(MatrixXd::Zero(q, q)) {}
    void clear() {
      one = 0.0;
      x.setZero();
      xx.setZero();
    }
    template <class Unit>
    void add(double hazard, const Unit& unit) {
      one += hazard;
      for (Index b = 0; b < x.size(); ++b) {
        const double part = hazard * unit[b];
        x[b] += part;
        for (Index a = b; a < x.size(); ++a) xx(a, b) += part * unit[a];
      }
    }
    double one;
    VectorXd x;
    MatrixXd xx;  // lower triangle
  };

  // The steps j enter the derivatives through five sums of powers of f_j / D_j alone.
  static void take_deaths(RegressionState& at, const Moments& risk, const Moments& died, double deaths, double mean) {
    double d1 = 0.0, fd1 = 0.0, d2 = 0.0, fd2 = 0.0, ffd2 = 0.0;
    for (double j = 0.0; j < deaths; j += 1.0) {
      const double f = j / deaths, inverse = 1.0 / (risk.one - f * died.one);
      at.loglik += mean * std::log(inverse);
      d1 += inverse;
      fd1 += f * inverse;
      d2 += inverse * inverse;
      fd2 += f * inverse * inverse;
      ffd2 += f * f * inverse * inverse;
    }
    at.gradient -= mean * (d1 * risk.x - fd1 * died.x);
    at.information.triangularView<Eigen::Lower>() += mean * (d1 * risk.xx - fd1 * died.xx);
    auto information = at.information.selfadjointView<Eigen::Lower>();
    information.rankUpdate(risk.x, -mean * d2);
    information.rankUpdate(risk.x, died.x, mean * fd2);
    information.rankUpdate(died.x, -mean * ffd2);
  }

  // Units from (inside) to `to` (outside) that share a time, from the last time to the first.
  template <class Work>
  void for_each_time(Work work) {
    for (Index from = 0, to = 0; from < time_.size(); from = to) {
      while (to < time_.size() && time_[to] == time_[from]) ++to;
      work(from, to);
    }
  }

  const MatrixXd x_;
  const VectorXd time_, event_, weight_, none_;
};

// Each covariate (row of x) less its mean, over its sd; returns the sds, 1 for a constant.
inline VectorXd standardise(MatrixXd& x) {
  VectorXd scale = VectorXd::Ones(x.rows());
  for (Index j = 0; j < x.rows(); ++j) {
    const double mean = x.row(j).mean();
    x.row(j).array() -= mean;
    const double spread = x.row(j).norm() / std::sqrt(static_cast<double>(x.cols()));
    if (spread > 1e-13 * std::abs(mean) && spread > 0.0) scale[j] = spread;
    x.row(j) /= scale[j];
  }
  return scale;
}

inline CoxSums latest_first(const MatrixXd& x, const VectorXd& time, const VectorXd& event, const VectorXd& weight) {
  const Index n = time.size();
  std::vector<Index> order(n);
  std::iota(order.begin(), order.end(), Index{0});
  std::stable_sort(order.begin(), order.end(), [&](Index a, Index b) { return time[a] > time[b]; });
  MatrixXd columns(x.rows(), n);
  VectorXd times(n), events(n), weights(n);
  for (Index k = 0; k < n; ++k) {
    columns.col(k) = x.col(order[k]);
    times[k] = time[order[k]];
    events[k] = event[order[k]];
    weights[k] = weight[order[k]];
  }
  return CoxSums(std::move(columns), std::move(times), std::move(events), std::move(weights));
}

// x: n x q; time, event (0 or 1) and weight (above 0): n.
inline CoxFit fit_cox(const MatrixXd& x, const VectorXd& time, const VectorXd& event, const VectorXd& weight) {
  const Index q = x.cols();
  MatrixXd columns = x.transpose();
  const VectorXd scale = standardise(columns);
  CoxSums sums = latest_first(columns, time, event, weight);
  RegressionState at;
  at.beta = VectorXd::Zero(q);
  sums.evaluate(at);
  CoxFit out;
  out.active = independent_columns(at.information);
  int iterations = 0;
  VectorXd direction = VectorXd::Zero(q);
  out.status = climb(sums, at, out.active, false, iterations, direction);
  out.coefficients = at.beta.cwiseQuotient(scale);
  out.covariance = MatrixXd::Zero(q, q);
  const Index k = static_cast<Index>(out.active.size());
  MatrixXd information(k, k);
  for (Index a = 0; a < k; ++a)
    for (Index b = 0; b < k; ++b) information(a, b) = at.information(out.active[a], out.active[b]);
  const Eigen::LLT<MatrixXd> factor(information);
  if (factor.info() != Eigen::Success) return out;
  const MatrixXd inverse = factor.solve(MatrixXd::Identity(k, k));
  for (Index a = 0; a < k; ++a)
    for (Index b = 0; b < k; ++b) {
      const int i = out.active[a], j = out.active[b];
      out.covariance(i, j) = inverse(a, b) / (scale[i] * scale[j]);
    }
  return out;
}
}  // namespace twin
