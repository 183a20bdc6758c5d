#include "kernels/full_match.h"  // first: the build breaks if a kernel leans on R
#include <RcppEigen.h>
#include "glue-pair.h"

// Partners of each seeker (NA for none), or NULL when there are more candidate pairs than memory should hold.
// [[Rcpp::export(rng = false)]]
SEXP glue_pair_optimal(Rcpp::List problem, int least, int most, int threads, Rcpp::RObject tell) {
  const twin::PairProblem given = pair_problem(problem, tell);
  try {
    const twin::Partners partners = twin::pair_optimal(given, least, most, threads);
    Rcpp::IntegerMatrix rows(static_cast<int>(given.seekers_height), most);
    for (Eigen::Index i = 0; i < given.seekers_height; ++i) {
      for (int k = 0; k < most; ++k) {
        const int row = partners.row[i * most + k];
        rows(static_cast<int>(i), k) = row < 0 ? NA_INTEGER : row + 1;
      }
    }
    return rows;
  } catch (const twin::TooManyEdges&) {
    return R_NilValue;
  }
}

// limits: least and most partners of a seeker, least and most of a unit of the pool; 0 for no upper limit.
// [[Rcpp::export(rng = false)]]
SEXP glue_full_match(Rcpp::List problem, Rcpp::LogicalVector seeker_in, Rcpp::LogicalVector pool_in,
                     Rcpp::IntegerVector limits, Rcpp::RObject tell) {
  const twin::PairProblem given = pair_problem(problem, tell);
  if (seeker_in.size() != given.seekers_height || pool_in.size() != given.pool_height || limits.size() != 4)
    Rcpp::stop("full_match: one value per unit, four limits");
  twin::DegreeLimits degree;
  degree.seeker_least = limits[0];
  if (limits[1] > 0) degree.seeker_most = limits[1];
  degree.pool_least = limits[2];
  if (limits[3] > 0) degree.pool_most = limits[3];
  try {
    const twin::MatchedSets found = twin::full_match(given, std::vector<char>(seeker_in.begin(), seeker_in.end()),
                                                     std::vector<char>(pool_in.begin(), pool_in.end()), degree);
    Rcpp::IntegerVector seeker, unit, infeasible(found.infeasible.begin(), found.infeasible.end());
    seeker = Rcpp::IntegerVector(found.pairs.size());
    unit = Rcpp::IntegerVector(found.pairs.size());
    for (std::size_t k = 0; k < found.pairs.size(); ++k) {
      seeker[k] = found.pairs[k].first + 1;
      unit[k] = found.pairs[k].second + 1;
    }
    return Rcpp::List::create(Rcpp::Named("seeker") = seeker, Rcpp::Named("unit") = unit,
                              Rcpp::Named("infeasible") = infeasible + 1);
  } catch (const twin::TooManyEdges&) {
    return R_NilValue;
  }
}
