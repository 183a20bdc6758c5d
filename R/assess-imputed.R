# Balance and first tables of several completed data sets: the mean of them, and the worst.

# Rows that not every data set has (a level that was imputed in some alone) are means over those that do.
#' @exportS3Method
over_sets.twin_balance <- function(first, results) { # nolint: object_name_linter. An S3 method.
  if (first$tests) stop_tests_of_sets("balance")
  keys <- c("covariate", "level", "kind", "sample", if (!is.null(first$by)) "group")
  rows <- rows_over_sets(lapply(results, `[[`, "rows"), keys, function(own) {
    data.frame(smd_worst = furthest(own$smd, abs(own$smd)),
               ratio_worst = furthest(own$variance_ratio, abs(log(own$variance_ratio))),
               pass = if (all(is.na(own$pass))) NA else all(own$pass, na.rm = TRUE), one_arm = all(own$one_arm))
  })
  totals <- rows_over_sets(lapply(results, `[[`, "totals"), c("sample", "group"), function(own) NULL)
  amend(first, rows = rows, totals = totals, imputed = length(results))
}

# first: the order of rows is its, then come those that it lacks. worst: function(rows of one key) giving columns in
# place of their means.
rows_over_sets <- function(tables, keys, worst) {
  all <- do.call(rbind, unname(tables))
  key <- do.call(paste, c(unname(all[keys]), sep = "\001"))
  rows <- lapply(split(seq_along(key), factor(key, unique(key))), function(at) {
    own <- all[at, ]
    row <- own[1L, ]
    numbers <- vapply(own, is.numeric, NA)
    row[numbers] <- lapply(own[numbers], function(x) if (all(is.na(x))) NA_real_ else mean(x, na.rm = TRUE))
    special <- worst(own)
    row[names(special)] <- special
    row
  })
  out <- do.call(rbind, unname(rows))
  rownames(out) <- NULL
  out
}

stop_tests_of_sets <- function(what) {
  abort_unsupported(c("The {what} of imputed data makes no tests.",
                      i = "Leave {.arg tests} out, or look at a single data set ({.code x[[1]]})."), call = NULL)
}

# The entry whose size is largest; NA where none is known.
furthest <- function(x, size) if (all(is.na(size))) NA_real_ else x[which.max(size)]

# The largest of all data sets, where there are several.
largest_smd <- function(rows) if (is.null(rows$smd_worst)) rows$smd else rows$smd_worst
furthest_ratio <- function(rows) if (is.null(rows$ratio_worst)) rows$variance_ratio else rows$ratio_worst

# Means over the data sets; the standard error of a difference is pooled.
#' @exportS3Method
over_sets.twin_groups <- function(first, results) { # nolint: object_name_linter. An S3 method.
  if (first$tests) stop_tests_of_sets("first table")
  rows <- rows_over_sets(lapply(results, `[[`, "rows"), c("group", "covariate", "level", "kind"), function(own) {
    pooled <- core_pool(cbind(own$difference), lapply(own$std.error^2, matrix), Inf)
    counts <- grep("^(n|missing)", names(own), value = TRUE)
    c(list(std.error = sqrt(pooled$vcov[[1L]])), lapply(own[counts], function(x) round(mean(x))))
  })
  amend(first, rows = rows, imputed = length(results))
}
