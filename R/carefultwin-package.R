#' @keywords internal
#' @importFrom Rcpp sourceCpp
#' @importFrom stats coef confint nobs vcov weights
#' @useDynLib carefultwin, .registration = TRUE
"_PACKAGE"
