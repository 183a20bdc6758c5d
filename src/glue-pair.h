// From core_pair_problem()'s list to the kernels' PairProblem, which points into the list's own memory. tell: NULL or
// an R function of the share done.
#pragma once
#include <RcppEigen.h>
#include "kernels/pair_problem.h"

// Doubles or whole numbers as they stand: a value of another type would be copied, and the copy gone before its time.
inline Rcpp::NumericVector doubles(SEXP values, const char* name) {
  if (TYPEOF(values) != REALSXP) Rcpp::stop("%s must hold doubles", name);
  return Rcpp::NumericVector(values);
}

inline Rcpp::IntegerVector integers(SEXP values, const char* name) {
  if (TYPEOF(values) != INTSXP) Rcpp::stop("%s must hold integers", name);
  return Rcpp::IntegerVector(values);
}

inline twin::PairProblem pair_problem(Rcpp::List list, const Rcpp::RObject& tell) {
  twin::PairProblem out;
  const Rcpp::NumericMatrix seekers(doubles(list["seekers"], "seekers")), pool(doubles(list["pool"], "pool"));
  if (seekers.ncol() != pool.ncol()) Rcpp::stop("seekers and pool must have the same columns");
  out.seekers_height = seekers.nrow();
  out.pool_height = pool.nrow();
  out.p = seekers.ncol();
  out.seekers = seekers.begin();
  out.pool = pool.begin();
  out.caliper = Rcpp::as<double>(list["caliper"]);
  const auto fits = [&](R_xlen_t first, R_xlen_t second) {
    if (first != out.seekers_height || second != out.pool_height) Rcpp::stop("one value per seeker and unit");
  };
  for (const Rcpp::List limit : Rcpp::as<Rcpp::List>(list["limits"])) {
    const Rcpp::NumericVector first = doubles(limit["seekers"], "limits"), second = doubles(limit["pool"], "limits");
    fits(first.size(), second.size());
    out.rules.limits.push_back({first.begin(), second.begin(), Rcpp::as<double>(limit["width"])});
  }
  for (const Rcpp::List label : Rcpp::as<Rcpp::List>(list["apart"])) {
    const Rcpp::IntegerVector first = integers(label["seekers"], "apart"), second = integers(label["pool"], "apart");
    fits(first.size(), second.size());
    out.rules.apart.push_back({first.begin(), second.begin()});
  }
  out.rules.not_itself = Rcpp::as<bool>(list["not_itself"]);
  out.window = Rcpp::as<int>(list["window"]);
  if (out.window >= static_cast<int>(out.rules.limits.size())) Rcpp::stop("the window is no limit");
  out.groups = Rcpp::as<int>(list["groups"]);
  if (out.groups < 1 || out.p < 1) Rcpp::stop("a problem must have a group and a column");
  if (out.groups > 1) {
    const Rcpp::IntegerVector first = list["seeker_group"], second = list["pool_group"];
    fits(first.size(), second.size());
    const auto code_of = [&](int code) {
      if (code < 1 || code > out.groups) Rcpp::stop("a group is out of range");
      return code - 1;
    };
    for (const int code : first) out.seeker_group.push_back(code_of(code));
    for (const int code : second) out.pool_group.push_back(code_of(code));
  }
  if (tell.isNULL()) {
    out.tell = [](double) { Rcpp::checkUserInterrupt(); };
  } else {
    out.tell = [call = Rcpp::Function(tell)](double share) {
      Rcpp::checkUserInterrupt();
      call(share);
    };
  }
  twin::bring_into_range(out);
  return out;
}
