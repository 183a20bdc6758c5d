#include "kernels/arm_sets.h"  // first: the build breaks if a kernel leans on R
#include "kernels/pair_greedy.h"
#include "kernels/pair_nearest.h"
#include <RcppEigen.h>
#include "glue-pair.h"

namespace {
Rcpp::IntegerMatrix to_rows(const twin::Partners& partners, Eigen::Index seekers) {
  Rcpp::IntegerMatrix rows(static_cast<int>(seekers), partners.width);
  for (Eigen::Index i = 0; i < seekers; ++i) {
    for (int k = 0; k < partners.width; ++k) {
      const int row = partners.row[i * partners.width + k];
      rows(static_cast<int>(i), k) = row < 0 ? NA_INTEGER : row + 1;
    }
  }
  return rows;
}
}  // namespace

// problem: see core_pair_problem(). order: rows of the seekers, empty for the closest pair first.
// [[Rcpp::export(rng = false)]]
Rcpp::IntegerMatrix glue_pair_greedy(Rcpp::List problem, Rcpp::IntegerVector order, int partners_each,
                                     Rcpp::RObject tell) {
  const twin::PairProblem given = pair_problem(problem, tell);
  if (order.size() != 0 && order.size() != given.seekers_height) Rcpp::stop("order must have one entry per seeker");
  std::vector<int> zero_based(order.begin(), order.end());
  for (int& row : zero_based) {
    if (row < 1 || row > given.seekers_height) Rcpp::stop("order must hold rows of seekers");
    --row;
  }
  return to_rows(twin::pair_greedy(given, zero_based, partners_each), given.seekers_height);
}

// [[Rcpp::export(rng = false)]]
Rcpp::List glue_nearest_lists(Rcpp::List problem, int k, bool ties, int threads, double most, Rcpp::RObject tell) {
  const twin::PairProblem given = pair_problem(problem, tell);
  const twin::NearestLists lists = twin::nearest_lists(given, k, ties, threads, static_cast<Eigen::Index>(most));
  Rcpp::IntegerVector row(lists.row.begin(), lists.row.end());
  for (int& at : row) ++at;
  Rcpp::NumericVector start(lists.start.begin(), lists.start.end());
  return Rcpp::List::create(Rcpp::Named("start") = start, Rcpp::Named("row") = row,
                            Rcpp::Named("distance") = Rcpp::wrap(lists.distance),
                            Rcpp::Named("too_many") = lists.too_many);
}

// nearest: n x arms, rows from 1; order: rows whose nearest are all known.
// [[Rcpp::export(rng = false)]]
Rcpp::IntegerVector glue_arm_sets(const Rcpp::IntegerMatrix nearest, const Rcpp::IntegerVector order) {
  const int n = nearest.nrow();
  std::vector<int> zero_based(nearest.begin(), nearest.end());
  for (int& row : zero_based) row = row == NA_INTEGER ? -1 : row - 1;
  std::vector<int> places(order.begin(), order.end());
  for (int& row : places) {
    if (row < 1 || row > n) Rcpp::stop("order must hold rows");
    --row;
    for (int j = 0; j < nearest.ncol(); ++j) {
      const int at = zero_based[row + static_cast<std::size_t>(j) * n];
      if (at < 0 || at >= n) Rcpp::stop("whoever begins a set must have a unit in every arm");
    }
  }
  return Rcpp::wrap(twin::arm_sets(zero_based.data(), n, nearest.ncol(), places));
}

#ifdef _OPENMP
#include <omp.h>
#endif
#ifndef _WIN32
#include <unistd.h>
#endif

namespace {
#ifdef _WIN32
bool is_forked() { return false; }
#else
const pid_t kLoadedBy = getpid();
bool is_forked() { return getpid() != kLoadedBy; }
#endif
}  // namespace

// What OMP_NUM_THREADS and OMP_THREAD_LIMIT leave of the processors; 1 in a forked process, where GNU's OpenMP waits
// for threads that stayed behind.
// [[Rcpp::export(rng = false)]]
int glue_threads_offered() {
#ifdef _OPENMP
  if (!is_forked()) return std::min(omp_get_max_threads(), omp_get_thread_limit());
#endif
  return 1;
}
