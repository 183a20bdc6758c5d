#include "kernels/absorb.h"  // first: the build breaks if a kernel leans on R
#include "kernels/unit_scatter.h"
#include "kernels/within.h"
#include <RcppEigen.h>

namespace {
// columns: n x c; unit (not falling), time: n codes from 0; block: codes from 0 per unit.
twin::WithinRows within_rows(const Rcpp::NumericMatrix& columns, const Rcpp::IntegerVector& unit,
                             const Rcpp::IntegerVector& time, int periods, const Rcpp::IntegerVector& block,
                             int blocks) {
  const int n = columns.nrow();
  if (unit.size() != n || time.size() != n) Rcpp::stop("lengths differ");
  if (n > 0 && (Rcpp::max(unit) >= block.size() || Rcpp::min(unit) < 0)) Rcpp::stop("a unit has no block");
  if (n > 0 && (Rcpp::max(time) >= periods || Rcpp::min(time) < 0)) Rcpp::stop("a time is out of range");
  if (Rcpp::max(block) >= blocks || Rcpp::min(block) < 0) Rcpp::stop("a block is out of range");
  return {columns.begin(), n, columns.ncol(), unit.begin(), time.begin(), periods, block.begin(), blocks};
}
}  // namespace

// [[Rcpp::export(rng = false)]]
Eigen::MatrixXd glue_within_grams(const Rcpp::NumericMatrix columns, const Rcpp::IntegerVector unit,
                                  const Rcpp::IntegerVector time, int periods, const Rcpp::IntegerVector block,
                                  int blocks, const Rcpp::NumericVector weight) {
  if (weight.size() != columns.nrow()) Rcpp::stop("lengths differ");
  return twin::within_grams(within_rows(columns, unit, time, periods, block, blocks), weight.begin());
}

// piece: code from 0 per row, each of one unit; whole: are they the units?
// [[Rcpp::export(rng = false)]]
Eigen::MatrixXd glue_within_residuals(const Rcpp::NumericMatrix columns, const Rcpp::IntegerVector unit,
                                      const Rcpp::IntegerVector time, int periods, const Rcpp::IntegerVector block,
                                      int blocks, const Rcpp::NumericVector weight, const Rcpp::NumericVector shown,
                                      const Eigen::Map<Eigen::MatrixXd> coefficients, const Rcpp::IntegerVector piece,
                                      int pieces, bool whole) {
  if (piece.size() != columns.nrow()) Rcpp::stop("lengths differ");
  if (piece.size() > 0 && (Rcpp::min(piece) < 0 || Rcpp::max(piece) >= pieces)) Rcpp::stop("a piece is out of range");
  if (weight.size() != columns.nrow() || shown.size() != columns.nrow()) Rcpp::stop("lengths differ");
  if (coefficients.rows() != periods + columns.ncol() || coefficients.cols() != blocks) Rcpp::stop("sizes differ");
  return twin::within_residuals(within_rows(columns, unit, time, periods, block, blocks), weight.begin(), shown.begin(),
                                coefficients, piece.begin(), pieces, whole);
}

// [[Rcpp::export(rng = false)]]
Eigen::MatrixXd glue_within_targets(const Rcpp::NumericMatrix columns, const Rcpp::IntegerVector unit,
                                    const Rcpp::IntegerVector time, int periods, const Rcpp::IntegerVector block,
                                    int blocks, const Rcpp::NumericVector weight, const Rcpp::NumericVector shown) {
  if (weight.size() != columns.nrow() || shown.size() != columns.nrow()) Rcpp::stop("lengths differ");
  return twin::within_targets(within_rows(columns, unit, time, periods, block, blocks), weight.begin(), shown.begin());
}

// y: P values per unit; s, block (codes from 0): per unit; centre: P.
// [[Rcpp::export(rng = false)]]
Rcpp::List glue_unit_scatter(const Rcpp::NumericVector y, const Rcpp::NumericVector s, const Rcpp::IntegerVector block,
                             int blocks, const Rcpp::NumericVector centre) {
  const R_xlen_t units = s.size(), periods = centre.size();
  if (y.size() != units * periods || block.size() != units) Rcpp::stop("lengths differ");
  if (units == 0 || Rcpp::min(block) < 0 || Rcpp::max(block) >= blocks) Rcpp::stop("a block is out of range");
  twin::UnitScatter out =
      twin::unit_scatter(y.begin(), units, static_cast<int>(periods), s.begin(), block.begin(), blocks, centre.begin());
  return Rcpp::List::create(Rcpp::Named("scatter") = out.scatter, Rcpp::Named("totals") = out.totals);
}

// codes: list of n codes from 0. Returns the residual columns, or NULL when they did not settle.
// [[Rcpp::export(rng = false)]]
SEXP glue_absorb_effects(const Rcpp::NumericMatrix columns, const Rcpp::List codes, const Rcpp::NumericVector weight) {
  twin::Effects effects;
  effects.n = columns.nrow();
  if (weight.size() != effects.n) Rcpp::stop("lengths differ");
  effects.weight = weight.begin();
  std::vector<Rcpp::IntegerVector> held;
  for (R_xlen_t k = 0; k < codes.size(); ++k) {
    held.emplace_back(Rcpp::as<Rcpp::IntegerVector>(codes[k]));
    if (held.back().size() != effects.n || Rcpp::min(held.back()) < 0) Rcpp::stop("codes differ in length");
    effects.codes.push_back(held.back().begin());
    effects.levels.push_back(Rcpp::max(held.back()) + 1);
  }
  Eigen::MatrixXd out = Rcpp::as<Eigen::MatrixXd>(columns);
  if (!twin::absorb_effects(out, effects)) return R_NilValue;
  return Rcpp::wrap(out);
}
