#' @keywords internal
#' @importFrom Rcpp sourceCpp
#' @importFrom ggplot2 .data
#' @importFrom stats coef confint nobs vcov weights
#' @useDynLib carefultwin, .registration = TRUE
"_PACKAGE"
