// Weighted binary regressions and least squares by Newton's method. Columns are standardised inside, since raw years
// and incomes side by side lose half the digits of the information matrix; coefficients come back on the raw scale.
// O(n p^2) per step.
#pragma once
#include <algorithm>
#include <cstdint>
#include <limits>
#include <memory>
#include <stdexcept>
#include <utility>
#include <vector>
#include "newton.h"
#include "vector_passes.h"

namespace twin {
constexpr Index kManyRows = 20000;  // from here on a start from a subsample pays

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

// An objective at a point: its value, gradient and information. rows: which rows of x take part (null: all); y and
// weight have one entry per row of x and may be null (ones). pull: a vector of q added to the gradient (and pull'beta
// to the value), empty for none.
class Regression final : public SumsSource {
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
        linear_(rows ? static_cast<Index>(rows->size()) : x.rows()),
        fitted_(linear_.size()),
        work_(pass_size(static_cast<int>(x.cols()))) {}

  // Copies the chosen rows once, for many passes over them: as much memory as those rows of x.
  void pack() {
    const int q = static_cast<int>(x_.cols()) + 1;
    const Index blocks = (size() + plain_isa::kBlock - 1) / plain_isa::kBlock;
    packed_ = std::make_unique<Workspace>(static_cast<std::size_t>(blocks) * plain_isa::kBlock * q);
    run_pack(x_.data(), x_.rows(), rows_->data(), size(), q - 1, scaling_.centre.data(), scaling_.inverse_scale.data(),
             packed_->data());
  }

  Index size() const { return linear_.size(); }

  // Predictor and fitted value of every row that takes part, at the point last asked for.
  VectorXd& linear() { return linear_; }
  VectorXd& fitted() { return fitted_; }

  void evaluate(RegressionState& at) override {
    at.gradient = VectorXd::Zero(x_.cols() + 1);
    at.information = MatrixXd::Zero(x_.cols() + 1, x_.cols() + 1);
    run(at, at.gradient.data(), at.information.data());
    at.information = at.information.selfadjointView<Eigen::Lower>();
    if (pull_.size() > 0) at.gradient += pull_;
  }

  void slope(RegressionState& at) override {
    at.gradient = VectorXd::Zero(x_.cols() + 1);
    run(at, at.gradient.data(), nullptr);
    if (pull_.size() > 0) at.gradient += pull_;
  }

  void predict(RegressionState& at) override { run(at, nullptr, nullptr); }

  Reach reach(const VectorXd& direction, bool by_arm) override {
    Reach out{std::numeric_limits<double>::max(), std::numeric_limits<double>::lowest()};
    for (Index k = 0; k < size(); ++k) {
      const Index i = rows_ ? (*rows_)[k] : k;
      if (weight_ && weight_[i] <= 0.0) continue;
      double along = along_row(i, direction);
      if (by_arm && y_[i] < 0.5) along = -along;
      out.least = std::min(out.least, along);
      out.most = std::max(out.most, along);
    }
    return out;
  }

  const VectorXd& pull() const override { return pull_; }

 private:
  double along_row(Index i, const VectorXd& step) const {
    double along = step[0];
    for (Index j = 0; j < x_.cols(); ++j)
      along += (x_(i, j) - scaling_.centre[j]) * scaling_.inverse_scale[j] * step[j + 1];
    return along;
  }

  void run(RegressionState& at, double* gradient, double* information) {
    at.loglik = pull_.size() > 0 ? pull_.dot(at.beta) : 0.0;
    run_regression_pass(objective_, x_.data(), x_.rows(), rows_ ? rows_->data() : nullptr, size(),
                        static_cast<int>(x_.cols()), packed_ ? packed_->data() : nullptr, scaling_.centre.data(),
                        scaling_.inverse_scale.data(), y_, weight_, at.beta.data(), work_.data(), &at.loglik, gradient,
                        information, linear_.data(), fitted_.data());
  }

  const Objective objective_;
  const Eigen::Ref<const MatrixXd>& x_;
  const double* y_;
  const double* weight_;
  const Scaling& scaling_;
  const std::vector<int>* rows_;
  const VectorXd pull_;
  VectorXd linear_, fitted_;
  Workspace work_;
  std::unique_ptr<Workspace> packed_;
};

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

inline VectorXd subsample_start(Objective objective, const Subsample& some, const Scaling& scaling) {
  const Eigen::Ref<const MatrixXd> x(some.x);
  Regression problem(objective, x, some.y.data(), some.weight.data(), scaling);
  VectorXd direction = VectorXd::Zero(x.cols() + 1);
  RegressionState at;
  at.beta = VectorXd::Zero(x.cols() + 1);
  problem.evaluate(at);
  int iterations = 0;
  const std::vector<int> active = independent_columns(at.information);
  const FitStatus status = climb(problem, at, active, x.rows() > kManyRows, iterations, direction, 12);
  const bool usable = status == FitStatus::converged && at.beta.cwiseAbs().maxCoeff() < 10.0;
  return usable ? at.beta : VectorXd::Zero(x.cols() + 1);
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

// What the solved problem holds, on the raw scale; the problem gives its rows away.
inline void finish(Regression& problem, const RegressionState& at, const std::vector<int>& active,
                   const Scaling& scaling, RegressionFit& fit) {
  RawSolution raw = to_raw_scale(at, active, scaling);
  fit.loglik = at.loglik;
  fit.coefficients = std::move(raw.coefficients);
  fit.covariance = std::move(raw.covariance);
  fit.linear = std::move(problem.linear());
  fit.fitted = std::move(problem.fitted());
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
  Regression problem(objective, x, y.data(), weight, scaling);
  RegressionState at;
  at.beta = seek_start ? subsample_start(objective, some, scaling)
            : start    ? to_standard_scale(start, scaling)
                       : VectorXd::Zero(p + 1);
  problem.evaluate(at);
  const std::vector<int> active = independent_columns(at.information);
  name_aliased(active, p, fit);
  if (!fit.aliased.empty() && (at.beta.array() != 0.0).any()) {  // the start used a column that falls out
    at.beta.setZero();
    problem.evaluate(at);
  }
  VectorXd direction = VectorXd::Zero(p + 1);
  fit.status = climb(problem, at, active, large, fit.iterations, direction);
  fit.direction = direction.tail(p);
  finish(problem, at, active, scaling, fit);
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
  const VectorXd unit = covariance.diagonal().cwiseSqrt();  // a step is measured in standard errors
  RegressionState at;
  const VectorXd residual = weight.cwiseProduct(y - start_fitted);
  at.gradient.resize(start.size());
  at.gradient << residual.sum(), x.transpose() * residual;
  at.beta = start + covariance * at.gradient;
  double before = 1e300;
  for (int iteration = 0; iteration < 30; ++iteration) {
    problem.slope(at);
    const VectorXd step = covariance * at.gradient;
    double size = 0.0;
    for (Index j = 0; j < step.size(); ++j)
      if (unit[j] > 0.0) size = std::max(size, std::abs(step[j]) / unit[j]);
    if (size <= 1e-7) return problem.fitted();
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
  Regression problem(plain_isa::linear_fit, x, y.data(), weight, scaling);
  RegressionState at;
  at.beta = VectorXd::Zero(x.cols() + 1);
  problem.evaluate(at);
  const std::vector<int> active = independent_columns(at.information);
  name_aliased(active, x.cols(), fit);
  bool solved = true;
  for (fit.iterations = 1; fit.iterations <= 2 && solved; ++fit.iterations) {
    at.beta += newton_step(at, active, solved);
    problem.evaluate(at);
  }
  fit.status = solved ? FitStatus::converged : FitStatus::not_converged;
  finish(problem, at, active, scaling, fit);
  return fit;
}

// Cross-products of the columns of x less `centre`, of which a covariance is made: sum, and sum of squares, of the
// weights; first: sum v (x - centre), p; second: sum v (x - centre)(x - centre)', p x p.
struct CrossProducts {
  double total = 0.0, square = 0.0;
  VectorXd centre, first;
  MatrixXd second;
};

inline CrossProducts cross_products(const Eigen::Ref<const MatrixXd>& x, const double* weight) {
  const int p = static_cast<int>(x.cols());
  const Scaling scaling = standardise(x);
  Workspace work(pass_size(p));
  MatrixXd gram = MatrixXd::Zero(p + 1, p + 1);
  run_moment_pass(x.data(), x.rows(), p, scaling.centre.data(), scaling.inverse_scale.data(), weight, work.data(),
                  gram.data());
  gram = gram.selfadjointView<Eigen::Lower>();
  const VectorXd scale = scaling.inverse_scale.cwiseInverse();
  CrossProducts out;
  out.total = gram(0, 0);
  out.square = weight ? Eigen::Map<const VectorXd>(weight, x.rows()).squaredNorm() : static_cast<double>(x.rows());
  out.centre = scaling.centre;
  out.first = scale.cwiseProduct(gram.col(0).tail(p));
  out.second = scale.asDiagonal() * gram.bottomRightCorner(p, p) * scale.asDiagonal();
  return out;
}
}  // namespace twin
