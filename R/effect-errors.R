# Errors of comparisons for people who must reproduce a paper: Methods, "Standard errors". Units independent, without
# weights.

# designs: kinds they are known for; on: these in words.
error_kinds <- list(
  robust = list(designs = NULL, on = "every design"),
  classical = list(designs = "raw", on = "the raw comparison"),
  welch = list(designs = "raw", on = "the raw comparison"),
  hc1 = list(designs = "raw", on = "the raw comparison"),
  stratified = list(designs = c("strata", "cells"), on = "strata and cells")
)

is_raw_error <- function(error) identical(error_kinds[[error]]$designs, "raw")

# list(vcov, df, text) of the two means.
raw_errors <- function(units, error) {
  found <- core_raw_errors(units$y[units$used], units$z[units$used], error)
  list(vcov = found$vcov, df = core_known_df(found$df), text = sprintf(
    "%s, t with %s degrees of freedom",
    c(classical = "classical (one variance for both arms)", welch = "Welch (a variance for each arm)",
      hc1 = "robust (HC1)")[[error]], format(round(found$df, 1), big.mark = ",")
  ))
}

# Of all terms of a difference on strata or cells: variances within each stratum and arm.
stratified_errors <- function(x, units, result, call = rlang::caller_env(2)) {
  set <- x$set[units$rows]
  found <- core_stratified_errors(units$y, units$z, ifelse(units$used, units$w, 0), set)
  if (length(found$single) > 0L) {
    abort_input(c("Stratified errors need two units of each arm in every stratum.",
                  x = "{length(found$single)} {?has/have} one: stratum {found$single}.",
                  i = "Use fewer strata or wider cells, or {.code error = \"robust\"}."), call = call)
  }
  slopes <- found$share[rep(seq_len(nrow(found$share)), 2L), ] * rep(c(1, 0, 0, 1), each = nrow(found$share))
  slopes <- slopes %*% result$slopes
  own <- match(paste("stratum", found$set), names(result$estimate))
  for (k in which(!is.na(own))) slopes[c(k, k + length(own)), own[k]] <- c(1, -1)
  vcov <- crossprod(slopes, slopes * as.vector(found$variance))
  dimnames(vcov) <- list(names(result$estimate), names(result$estimate))
  list(vcov = vcov, df = core_known_df(found$df), text = sprintf(
    "within %s %s, their sizes as given", count_text(length(own)), if (design_kind(x) == "strata") "strata" else "cells"
  ))
}
