// Weighted binary regressions and least squares by Newton's method. Columns are standardised inside, since raw years
// and incomes side by side lose half the digits of the information matrix; coefficients come back on the raw scale.
// O(n p^2) per step.
#pragma once
#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <cstdint>
#include <memory>
#include <stdexcept>
#include <vector>
#include "vector_passes.h"

namespace twin {
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr Index kManyRows = 20000;  // from here on a start from a subsample pays

enum class FitStatus { converged, separated, not_converged };

struct RegressionFit {
  FitStatus status = FitStatus::not_converged;
  int iterations = 0;
  double loglik = 0.0;
  VectorXd coefficients;     // p + 1, intercept first, raw scale; 0 where aliased
  MatrixXd covariance;       // inverse information, raw scale; 0 in aliased rows and columns
  VectorXd linear, fitted;   // n: linear predictor and fitted mean
  std::vector<int> aliased;  // columns of x (0-based) that earlier ones already explain
  VectorXd direction;        // p, standardised scale: where the likelihood still rises without end
};

struct Scaling {
  VectorXd centre, inverse_scale;
};

// Column means and 1/sd; a constant column keeps scale 1 (its centred values are 0, so it is found aliased). The
// scaling only has to be about right, so a part of the rows serves as well as all of them.
inline Scaling standardise(const Eigen::Ref<const MatrixXd>& x) {
  Scaling out{VectorXd(x.cols()), VectorXd(x.cols())};
  for (Index j = 0; j < x.cols(); ++j) {
    const double mean = x.col(j).mean();
    const double spread = std::sqrt((x.col(j).array() - mean).square().mean());
    out.centre[j] = mean;
    out.inverse_scale[j] = spread > 1e-13 * std::abs(mean) && spread > 0.0 ? 1.0 / spread : 1.0;
  }
  return out;
}

// Columns of a Gram matrix (lower triangle) that the ones before them explain: Cholesky in the given order, a pivot
// below `tolerance` of the column's own size drops the column. Tolerance 1e-10 is a multiple correlation within
// 1e-10 of one; finer differences are lost in the rounding of the sums.
inline std::vector<int> dependent_columns(const MatrixXd& gram, double tolerance = 1e-10) {
  const Index q = gram.rows();
  MatrixXd factor = MatrixXd::Zero(q, q);
  std::vector<int> dropped;
  for (Index j = 0; j < q; ++j) {
    for (Index k = 0; k < j; ++k) {
      if (factor(k, k) == 0.0) continue;
      factor(j, k) = (gram(j, k) - factor.row(j).head(k).dot(factor.row(k).head(k))) / factor(k, k);
    }
    const double left = gram(j, j) - factor.row(j).head(j).squaredNorm();
    if (left > tolerance * gram(j, j) && gram(j, j) > 0.0)
      factor(j, j) = std::sqrt(left);
    else
      dropped.push_back(static_cast<int>(j));
  }
  return dropped;
}

struct RegressionState {
  VectorXd beta, gradient;
  MatrixXd information;
  double loglik = 0.0;
};

// An objective at a point: its value, gradient and information. rows: which rows of x take part (null: all); y and
// weight have one entry per row of x and may be null (ones). pull: a vector of q added to the gradient (and pull'beta
// to the value), empty for none.
class Regression {
 public:
  Regression(Objective objective, const Eigen::Ref<const MatrixXd>& x, const double* y, const double* weight,
             const Scaling& scaling, const std::vector<int>* rows = nullptr, const VectorXd& pull = VectorXd())
      : objective_(objective),
        x_(x),
        y_(y),
        weight_(weight),
        scaling_(scaling),
        rows_(rows),
        pull_(pull),
        work_(pass_size(static_cast<int>(x.cols()))) {}

  // Copies the chosen rows once, for many passes over them: as much memory as those rows of x.
  void pack() {
    const int q = static_cast<int>(x_.cols()) + 1;
    const Index blocks = (size() + plain_isa::kBlock - 1) / plain_isa::kBlock;
    packed_ = std::make_unique<Workspace>(static_cast<std::size_t>(blocks) * plain_isa::kBlock * q);
    run_pack(x_.data(), x_.rows(), rows_->data(), size(), q - 1, scaling_.centre.data(), scaling_.inverse_scale.data(),
             packed_->data());
  }

  Index size() const { return rows_ ? static_cast<Index>(rows_->size()) : x_.rows(); }

  void evaluate(RegressionState& at, VectorXd& linear, VectorXd& fitted) {
    const int p = static_cast<int>(x_.cols());
    at.gradient = VectorXd::Zero(p + 1);
    at.information = MatrixXd::Zero(p + 1, p + 1);
    run(at, at.gradient.data(), at.information.data(), linear, fitted);
    at.information = at.information.selfadjointView<Eigen::Lower>();
    if (pull_.size() > 0) at.gradient += pull_;
  }

  // Gradient without objective and information, which stays that of a nearby point.
  void slope(RegressionState& at, VectorXd& linear, VectorXd& fitted) {
    at.gradient = VectorXd::Zero(x_.cols() + 1);
    run(at, at.gradient.data(), nullptr, linear, fitted);
    if (pull_.size() > 0) at.gradient += pull_;
  }

  // Predictor, fitted values and objective only; gradient and information stay those of a nearby point.
  void predict(RegressionState& at, VectorXd& linear, VectorXd& fitted) { run(at, nullptr, nullptr, linear, fitted); }

  // Albert & Anderson (1984): the arms are separated when some direction d has (2y - 1) x'd >= 0 for every unit and
  // > 0 for some. Late Newton steps of a separated fit point along such a direction; here that is certified.
  bool separates(const VectorXd& step) const {
    double least = 0.0, most = 0.0;
    for (Index i = 0; i < x_.rows(); ++i) {
      if (weight_ && weight_[i] <= 0.0) continue;
      double along = along_row(i, step);
      if (y_[i] < 0.5) along = -along;
      least = std::min(least, along);
      most = std::max(most, along);
    }
    return most > 0.0 && least >= -1e-4 * most;
  }

  // A direction that no row of positive weight exceeds while the pull does not fall short of it: then the pull lies
  // outside the rows' convex hull and the objective rises for ever.
  bool escapes(const VectorXd& step) const {
    double most = -1e300, scale = 0.0;
    for (Index k = 0; k < size(); ++k) {
      const Index i = rows_ ? (*rows_)[k] : k;
      if (weight_ && weight_[i] <= 0.0) continue;
      const double along = along_row(i, step);
      most = std::max(most, along);
      scale = std::max(scale, std::abs(along));
    }
    return pull_.dot(step) / pull_[0] >= most - 1e-6 * scale;
  }

 private:
  double along_row(Index i, const VectorXd& step) const {
    double along = step[0];
    for (Index j = 0; j < x_.cols(); ++j)
      along += (x_(i, j) - scaling_.centre[j]) * scaling_.inverse_scale[j] * step[j + 1];
    return along;
  }

  void run(RegressionState& at, double* gradient, double* information, VectorXd& linear, VectorXd& fitted) {
    at.loglik = pull_.size() > 0 ? pull_.dot(at.beta) : 0.0;
    run_regression_pass(objective_, x_.data(), x_.rows(), rows_ ? rows_->data() : nullptr, size(),
                        static_cast<int>(x_.cols()), packed_ ? packed_->data() : nullptr, scaling_.centre.data(),
                        scaling_.inverse_scale.data(), y_, weight_, at.beta.data(), work_.data(), &at.loglik, gradient,
                        information, linear.data(), fitted.data());
  }

  const Objective objective_;
  const Eigen::Ref<const MatrixXd>& x_;
  const double* y_;
  const double* weight_;
  const Scaling& scaling_;
  const std::vector<int>* rows_;
  const VectorXd pull_;
  Workspace work_;
  std::unique_ptr<Workspace> packed_;
};

inline VectorXd newton_step(const RegressionState& at, const std::vector<int>& active, bool& solved) {
  const Index k = static_cast<Index>(active.size());
  MatrixXd information(k, k);
  VectorXd gradient(k), step = VectorXd::Zero(at.beta.size());
  for (Index a = 0; a < k; ++a) {
    gradient[a] = at.gradient[active[a]];
    for (Index b = 0; b < k; ++b) information(a, b) = at.information(active[a], active[b]);
  }
  Eigen::LLT<MatrixXd> factor(information);
  solved = factor.info() == Eigen::Success;
  if (!solved) return step;
  const VectorXd reduced = factor.solve(gradient);
  for (Index a = 0; a < k; ++a) step[active[a]] = reduced[a];
  return step;
}

// Newton with step halving from `at.beta`. Stops when the last step moved no standardised coefficient by more than
// 1e-5: the error left is about its square. With many rows the information is then not summed again (it moves by
// less than 1e-5 of itself).
inline FitStatus climb(Regression& problem, RegressionState& at, const std::vector<int>& active, VectorXd& linear,
                       VectorXd& fitted, int& iterations, VectorXd& direction, int most_iterations = 60) {
  const bool many_rows = linear.size() > kManyRows;
  bool solved = true;
  for (iterations = 1; iterations <= most_iterations; ++iterations) {
    VectorXd step = newton_step(at, active, solved);
    if (!solved) break;
    direction = step;
    if (many_rows && step.cwiseAbs().maxCoeff() <= 1e-5) {
      at.beta += step;
      problem.predict(at, linear, fitted);
      return FitStatus::converged;
    }
    RegressionState next;
    int halvings = 0;
    for (;; ++halvings) {
      next.beta = at.beta + step;
      problem.evaluate(next, linear, fitted);
      if (next.loglik >= at.loglik - 1e-10 * (1.0 + std::abs(at.loglik)) || halvings == 30) break;
      step *= 0.5;
    }
    at = next;
    if (step.cwiseAbs().maxCoeff() <= 1e-5 && halvings == 0) return FitStatus::converged;
    if (iterations >= 15 && problem.separates(direction)) return FitStatus::separated;
  }
  return problem.separates(direction) ? FitStatus::separated : FitStatus::not_converged;
}

// Rows drawn by a fixed congruential sequence: a fit to them is a start close to the answer.
struct Subsample {
  MatrixXd x;
  VectorXd y, weight;
};

inline Subsample draw_subsample(const Eigen::Ref<const MatrixXd>& x, const Eigen::Ref<const VectorXd>& y,
                                const double* weight, Index size) {
  Subsample out{MatrixXd(size, x.cols()), VectorXd(size), VectorXd(size)};
  std::vector<Index> rows(size);
  std::uint64_t state = 20261123u;
  for (Index& row : rows) {
    state = state * 6364136223846793005ull + 1442695040888963407ull;
    row = static_cast<Index>((state >> 33) % static_cast<std::uint64_t>(x.rows()));
  }
  std::sort(rows.begin(), rows.end());
  for (Index j = 0; j < x.cols(); ++j)
    for (Index i = 0; i < size; ++i) out.x(i, j) = x(rows[i], j);
  for (Index i = 0; i < size; ++i) {
    out.y[i] = y[rows[i]];
    out.weight[i] = weight ? weight[rows[i]] : 1.0;
  }
  return out;
}

inline std::vector<int> independent_columns(const MatrixXd& gram) {
  const std::vector<int> dropped = dependent_columns(gram);
  std::vector<int> active;
  for (int j = 0; j < gram.rows(); ++j)
    if (std::find(dropped.begin(), dropped.end(), j) == dropped.end()) active.push_back(j);
  return active;
}

inline VectorXd subsample_start(Objective objective, const Subsample& some, const Scaling& scaling) {
  const Eigen::Ref<const MatrixXd> x(some.x);
  Regression problem(objective, x, some.y.data(), some.weight.data(), scaling);
  VectorXd linear(x.rows()), fitted(x.rows()), direction = VectorXd::Zero(x.cols() + 1);
  RegressionState at;
  at.beta = VectorXd::Zero(x.cols() + 1);
  problem.evaluate(at, linear, fitted);
  int iterations = 0;
  const std::vector<int> active = independent_columns(at.information);
  const FitStatus status = climb(problem, at, active, linear, fitted, iterations, direction, 12);
  const bool usable = status == FitStatus::converged && at.beta.cwiseAbs().maxCoeff() < 10.0;
  return usable ? at.beta : VectorXd::Zero(x.cols() + 1);
}

// Back to the raw scale: beta_raw = T beta with T = diag(1/scale) and a first row that moves the centres.
inline void to_raw_scale(const RegressionState& at, const std::vector<int>& active, const Scaling& scaling,
                         RegressionFit& fit) {
  const Index k = static_cast<Index>(active.size());
  MatrixXd information(k, k), to_raw = MatrixXd::Zero(at.beta.size(), k);
  for (Index a = 0; a < k; ++a) {
    for (Index b = 0; b < k; ++b) information(a, b) = at.information(active[a], active[b]);
    if (active[a] == 0) {
      to_raw(0, a) = 1.0;
      continue;
    }
    const Index j = active[a] - 1;
    to_raw(active[a], a) = scaling.inverse_scale[j];
    to_raw(0, a) = -scaling.centre[j] * scaling.inverse_scale[j];
  }
  VectorXd reduced(k);
  for (Index a = 0; a < k; ++a) reduced[a] = at.beta[active[a]];
  fit.coefficients = to_raw * reduced;
  Eigen::LLT<MatrixXd> factor(information);
  fit.covariance = factor.info() == Eigen::Success ? MatrixXd(to_raw * factor.solve(to_raw.transpose()))
                                                   : MatrixXd::Zero(at.beta.size(), at.beta.size());
}

// Coefficients of the raw scale as those of the standardised columns.
inline VectorXd to_standard_scale(const double* raw, const Scaling& scaling) {
  VectorXd beta(scaling.centre.size() + 1);
  beta[0] = raw[0];
  for (Index j = 0; j < scaling.centre.size(); ++j) {
    beta[0] += raw[j + 1] * scaling.centre[j];
    beta[j + 1] = raw[j + 1] / scaling.inverse_scale[j];
  }
  return beta;
}

inline void name_aliased(const std::vector<int>& active, Index p, RegressionFit& fit) {
  for (int j = 1; j <= p; ++j)
    if (std::find(active.begin(), active.end(), j) == active.end()) fit.aliased.push_back(j - 1);
}

// x: n x p without an intercept column (one is added), column major. y: n, each 0 or 1; shares too for a logit, counts
// for count_fit. weight: n non-negative sampling weights, or null for 1. start: p + 1 raw coefficients to begin from,
// or null. Not for linear_fit.
inline RegressionFit fit_curved(Objective objective, const Eigen::Ref<const MatrixXd>& x,
                                const Eigen::Ref<const VectorXd>& y, const double* weight,
                                const double* start = nullptr) {
  if (x.rows() != y.size() || x.rows() == 0) throw std::invalid_argument("fit_curved: lengths differ or are zero");
  const Index p = x.cols();
  const bool large = x.rows() > kManyRows, seek_start = large && !start;
  const Index part = std::max<Index>(x.rows() / 50, 5000);
  const Subsample some = large ? draw_subsample(x, y, weight, part) : Subsample();
  const Scaling scaling = large ? standardise(some.x) : standardise(x);
  RegressionFit fit;
  fit.linear.resize(x.rows());
  fit.fitted.resize(x.rows());
  Regression problem(objective, x, y.data(), weight, scaling);
  RegressionState at;
  at.beta = seek_start ? subsample_start(objective, some, scaling)
            : start    ? to_standard_scale(start, scaling)
                       : VectorXd::Zero(p + 1);
  problem.evaluate(at, fit.linear, fit.fitted);
  const std::vector<int> active = independent_columns(at.information);
  name_aliased(active, p, fit);
  if (!fit.aliased.empty() && (at.beta.array() != 0.0).any()) {  // the start used a column that falls out
    at.beta.setZero();
    problem.evaluate(at, fit.linear, fit.fitted);
  }
  VectorXd direction = VectorXd::Zero(p + 1);
  fit.status = climb(problem, at, active, fit.linear, fit.fitted, fit.iterations, direction);
  fit.loglik = at.loglik;
  fit.direction = direction.tail(p);
  to_raw_scale(at, active, scaling, fit);
  return fit;
}

// A bootstrap refit of a logit: `start` solves the same problem with other weights, `start_fitted` are its fitted
// values and `covariance` its inverse information, so that the first gradient needs no pass, steps shrink the error by
// about a hundred each and no information need be summed. Falls back on fit_curved() where they do not. Only fitted
// values come back.
inline VectorXd refit_logit(const Eigen::Ref<const MatrixXd>& x, const Eigen::Ref<const VectorXd>& y,
                            const Eigen::Ref<const VectorXd>& weight, const VectorXd& start,
                            const Eigen::Ref<const VectorXd>& start_fitted, const MatrixXd& covariance) {
  const Scaling plain{VectorXd::Zero(x.cols()), VectorXd::Ones(x.cols())};
  Regression problem(plain_isa::logit_fit, x, y.data(), weight.data(), plain);
  VectorXd linear(x.rows()), fitted(x.rows());
  const VectorXd unit = covariance.diagonal().cwiseSqrt();  // a step is measured in standard errors
  RegressionState at;
  const VectorXd residual = weight.cwiseProduct(y - start_fitted);
  at.gradient.resize(start.size());
  at.gradient << residual.sum(), x.transpose() * residual;
  at.beta = start + covariance * at.gradient;
  double before = 1e300;
  for (int iteration = 0; iteration < 30; ++iteration) {
    problem.slope(at, linear, fitted);
    const VectorXd step = covariance * at.gradient;
    double size = 0.0;
    for (Index j = 0; j < step.size(); ++j)
      if (unit[j] > 0.0) size = std::max(size, std::abs(step[j]) / unit[j]);
    if (size <= 1e-7) return fitted;
    if (!(size < 0.5 * before) && iteration > 0) break;
    before = size;
    at.beta += step;
  }
  const RegressionFit fit = fit_curved(plain_isa::logit_fit, x, y, weight.data(), start.data());
  if (fit.status != FitStatus::converged) return VectorXd();
  return fit.fitted;
}

// Least squares of y on x with weights; the second Newton step removes the rounding of the normal equations.
inline RegressionFit fit_linear(const Eigen::Ref<const MatrixXd>& x, const Eigen::Ref<const VectorXd>& y,
                                const double* weight) {
  if (x.rows() != y.size() || x.rows() == 0) throw std::invalid_argument("fit_linear: lengths differ or are zero");
  const Scaling scaling = standardise(x);
  RegressionFit fit;
  fit.linear.resize(x.rows());
  fit.fitted.resize(x.rows());
  Regression problem(plain_isa::linear_fit, x, y.data(), weight, scaling);
  RegressionState at;
  at.beta = VectorXd::Zero(x.cols() + 1);
  problem.evaluate(at, fit.linear, fit.fitted);
  const std::vector<int> active = independent_columns(at.information);
  name_aliased(active, x.cols(), fit);
  bool solved = true;
  for (fit.iterations = 1; fit.iterations <= 2 && solved; ++fit.iterations) {
    at.beta += newton_step(at, active, solved);
    problem.evaluate(at, fit.linear, fit.fitted);
  }
  fit.status = solved ? FitStatus::converged : FitStatus::not_converged;
  fit.loglik = at.loglik;
  to_raw_scale(at, active, scaling, fit);
  return fit;
}

// Covariance of the columns of x with weights: sum v (x - m)(x - m)' / (sum v - sum v^2 / sum v); n - 1 when v is 1.
inline MatrixXd weighted_covariance(const Eigen::Ref<const MatrixXd>& x, const double* weight) {
  const int p = static_cast<int>(x.cols());
  const Scaling scaling = standardise(x);
  Workspace work(pass_size(p));
  MatrixXd gram = MatrixXd::Zero(p + 1, p + 1);
  run_moment_pass(x.data(), x.rows(), p, scaling.centre.data(), scaling.inverse_scale.data(), weight, work.data(),
                  gram.data());
  gram = gram.selfadjointView<Eigen::Lower>();
  const double total = gram(0, 0);
  double squares = static_cast<double>(x.rows());
  if (weight) {
    squares = 0.0;
    for (Index i = 0; i < x.rows(); ++i) squares += weight[i] * weight[i];
  }
  const VectorXd mean = gram.col(0).tail(p) / total;
  const MatrixXd centred = gram.bottomRightCorner(p, p) - total * mean * mean.transpose();
  const VectorXd scale = scaling.inverse_scale.cwiseInverse();
  return scale.asDiagonal() * centred * scale.asDiagonal() / (total - squares / total);
}
}  // namespace twin
