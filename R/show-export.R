#' Write a table for the paper
#'
#' Writes groups, balance, weights, scores, effects, comparisons, probes or a checklist to a file. `.tex`, `.html`,
#' `.md` and `.docx` hold rounded numbers and a note that says what they are and which way differences go. `.csv` and
#' `.xlsx` hold the numbers of `tidy()` at full precision, or, when labels, columns or other choices are made, the table
#' as it is printed. In those, text that a spreadsheet would run as a formula stays text. The file is written under a
#' temporary name and renamed, so that a failure leaves nothing half-written.
#'
#' LaTeX tables use booktabs and a note as wide as the table. A table wider than the line is shrunk to it (graphicx);
#' one of more than 40 rows becomes a longtable, in smaller type where its lines are long. The first line of the file
#' names the packages it needs.
#'
#' @param x A `twin_groups`, `twin_balance`, `twin_weights`, `twin_responses`, `twin_calibration`, `twin_scores`,
#'   `twin_effect`, `twin_effects`, `twin_did`, `twin_dids`, `twin_trends`, `twin_composition`,
#'   `twin_response`, `twin_dose_balance`, `twin_course_effect`, `twin_course_balance`, `twin_decomposition`,
#'   `twin_comparison`, `twin_power`, `twin_variation`, `twin_probe` or `twin_checklist`; or, for `layout = "columns"`,
#'   a named list of effects of any outcomes.
#' @param file Path ending in `.tex`, `.html`, `.md`, `.docx`, `.csv` or `.xlsx`, in a folder that exists.
#' @param caption Caption of the table; made from `x` by default.
#' @param columns Which columns of the rendered table, in which order: their headings, renamed where the vector has
#'   names, such as `c("Covariate", Gap = "Difference")`. All by default.
#' @param labels Labels of covariates, levels, effects or quantities by name, such as
#'   `c(boat_length = "Length of boat")` or `c("port_size: large" = "Large port")`; with `layout = "columns"` also of
#'   the rows below the estimates.
#' @param digits Decimals of every number; by default about three significant places.
#' @param stars Cut-offs of p-values for significance stars, falling, such as `c(0.1, 0.05, 0.01)`; none by default. For
#'   groups, effects and comparisons.
#' @param se Where standard errors stand in groups, effects and comparisons: `"beside"` (a column, default) or `"under"`
#'   (in parentheses below the number).
#' @param note Text in place of the note made from `x`; `""` for none.
#' @param layout `"rows"` (default), or `"columns"` for effects and comparisons as papers print them: an effect a
#'   column, estimate over its standard error, and below them what was compared (means of the controls, units, clusters,
#'   effective sample, worst imbalance, design, estimator; over time also adjustment and fixed effects). For balance:
#'   means before and after side by side, with the reduction of |SMD|.
#' @param label,placement,orientation Of `.tex`: the `\\label{}` (by default `tab:` and the name of the file), where the
#'   float may go (`"htbp"` by default), and `"portrait"` (default) or `"landscape"` (lscape).
#' @return `file`, invisibly.
#' @section Errors: `twin_error_file` when the folder is missing or can't be written to, or for another ending;
#'   `twin_error_input` for unknown columns or labels, or for options that do not fit the file or table.
#' @family out
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + port_size)
#' file <- tempfile(fileext = ".tex")
#' export_table(describe_groups(study), file, columns = c("Covariate", "Difference"),
#'              stars = c(0.1, 0.05, 0.01), se = "under")
#' cat(readLines(file), sep = "\n")
#' design <- study |> score_units() |> weigh_units()
#' both <- compare_effects(raw = measure_effect(study), weighted = measure_effect(design))
#' export_table(both, file, layout = "columns", stars = c(0.05, 0.01), labels = c(raw = "Not adjusted"))
#' @export
export_table <- function(x, file, caption = NULL, columns = NULL, labels = NULL, digits = NULL, stars = NULL,
                         se = c("beside", "under"), note = NULL, layout = c("rows", "columns"), label = NULL,
                         placement = NULL, orientation = c("portrait", "landscape")) {
  layout <- check_choice(layout, c("rows", "columns"))
  orientation <- check_choice(orientation, c("portrait", "landscape"))
  x <- check_exported(x, layout)
  check_string(file)
  check_string(caption, null = TRUE)
  check_string(label, null = TRUE)
  check_placement(placement)
  se <- check_choice(se, c("beside", "under"))
  style <- list(columns = columns, labels = labels, digits = digits, stars = stars, se = se)
  check_style(style, x, layout)
  if (!is.null(note) && !(rlang::is_string(note) && !is.na(note) && validUTF8(enc2utf8(note)))) {
    abort_input("{.arg note} must be one text, or \"\".")
  }
  kind <- tolower(tools::file_ext(file))
  if (!kind %in% names(table_formats)) {
    abort_file(c("Can't write {.file {file}}.",
                 x = "The name must end in {.or {.val {paste0('.', names(table_formats))}}}."), path = file)
  }
  format <- table_formats[[kind]]
  if (!is.null(format$package)) need_package(format$package, paste("write", kind, "files"))
  given <- list(label = label, placement = placement, orientation = if (orientation == "landscape") orientation)
  if (kind != "tex" && !all(vapply(given, is.null, NA))) {
    abort_input("{.arg label}, {.arg placement} and {.arg orientation} belong to {.file .tex} files.")
  }
  if (is.null(label)) {
    given$label <- paste0("tab:", gsub("[^A-Za-z0-9-]+", "-", tools::file_path_sans_ext(basename(file))))
  }
  rendered <- function() {
    parts <- if (layout == "columns") column_parts(x, style) else styled_parts(x, style)
    if (!is.null(caption)) parts$caption <- caption
    if (!is.null(note)) parts$note <- note
    parts$latex <- given
    parts
  }
  plain <- is.null(c(columns, labels, digits, stars)) && se == "beside" && layout == "rows"
  # a csv of plain numbers never asks for the rendered table
  if (plain && !is.null(format$numbers)) format$numbers(x, rendered(), file) else format$write(rendered(), file)
  invisible(file)
}

check_exported <- function(x, layout, call = rlang::caller_env()) {
  made_by <- c(twin_groups = "describe_groups", twin_balance = "assess_balance", twin_weights = "assess_weights",
               twin_responses = "assess_responses",
               twin_calibration = "assess_score", twin_scores = "compare_scores", twin_effect = "measure_effect",
               twin_effects = "measure_effect", twin_comparison = "compare_effects", twin_probe = "probe_pairs",
               twin_trends = "assess_trends", twin_power = "assess_power", twin_decomposition = "decompose_did",
               twin_variation = "measure_variation", twin_checklist = "checklist", twin_dids = "measure_did",
               twin_composition = "assess_composition", twin_response = "measure_response",
               twin_dose_balance = "assess_balance", twin_course_balance = "assess_balance",
               twin_course_effect = "measure_course", twin_arms_balance = "assess_balance",
               twin_arms_overlap = "assess_overlap")
  if (layout == "rows") {
    if (inherits(x, "twin_by_imputation") && inherits(x[[1L]], names(made_by))) return(invisible(x))
    return(check_class(x, names(made_by), made_by, "x", call))
  }
  if (is_plain_list(x)) check_parts(x, c("twin_effect", "twin_effects"), "measure_effect", "x", call) else
    check_class(x, c("twin_effect", "twin_effects", "twin_comparison", "twin_balance"),
                c("measure_effect", "compare_effects", "assess_balance"), "x", call)
  x
}

check_placement <- function(placement, call = rlang::caller_env()) {
  known <- is.null(placement) || (rlang::is_string(placement) && grepl("^[htbpH!]+$", placement))
  if (known) return(invisible(placement))
  abort_input(c("{.arg placement} must be letters of h, t, b, p, H and !, such as \"tb\".",
                x = "It is {describe_value(placement)}."), call = call)
}

check_style <- function(style, x, layout, call = rlang::caller_env()) {
  check_number(style$digits, min = 0, max = 12, null = TRUE, arg = "digits", call = call)
  check_count(style$digits, min = 0, null = TRUE, arg = "digits", call = call)
  has_se <- (layout == "columns" && !inherits(x, "twin_balance")) ||
    inherits(x, c("twin_groups", "twin_effect", "twin_effects", "twin_comparison"))
  if (!has_se && (!is.null(style$stars) || style$se == "under")) {
    abort_input("{.arg stars} and {.arg se} belong to groups, effects and comparisons.", call = call)
  }
  if (!are_cut_offs(style$stars)) {
    abort_input("{.arg stars} must be falling cut-offs between 0 and 1, such as c(0.1, 0.05, 0.01).", call = call)
  }
  if (!is.null(style$labels) && !(is.character(style$labels) && is_named_list(as.list(style$labels)))) {
    abort_input("{.arg labels} must be text with names, such as c(boat_length = \"Length of boat\").", call = call)
  }
}

are_cut_offs <- function(x) is.null(x) || (is.numeric(x) && all(x > 0, x < 1) && !is.unsorted(rev(x)))

# A sentence that follows another; NULL stays out.
spaced <- function(sentence) if (!is.null(sentence)) paste0(" ", sentence)

# The rendered table with labels, stars, standard errors and columns as asked for.
styled_parts <- function(x, style, call = rlang::caller_env()) {
  number <- if (is.null(style$digits)) column_text else fixed_digits(style$digits)
  parts <- table_parts(x, number)
  if (!is.null(style$labels)) parts$table[[parts$first]] <- relabel(parts, style$labels, call)
  if (!is.null(style$stars)) parts <- add_stars(parts, style$stars)
  if (style$se == "under") parts <- errors_below(parts)
  if (!is.null(style$columns)) parts$table <- pick_columns(parts$table, style$columns, call)
  parts
}

# parts$keys: what the rows are called in the data; a label of that name replaces it, its level stays; one of a level or
# yes/no row ("port_size: large") replaces the whole.
relabel <- function(parts, labels, call) {
  whole <- row_name(parts$keys, parts$levels)
  known <- as.data.frame(as.list(stats::setNames(nm = unique(c(parts$keys, whole)))), optional = TRUE)
  check_columns(names(labels), known, "labels", call)
  text <- parts$table[[parts$first]]
  changed <- parts$keys %in% names(labels)
  text[changed] <- row_name(labels[parts$keys[changed]], parts$levels[changed])
  changed <- whole %in% names(labels) & !is.na(parts$levels)
  text[changed] <- labels[whole[changed]]
  text
}

add_stars <- function(parts, cuts) {
  parts$table[[parts$estimate]] <- paste0(parts$table[[parts$estimate]], stars_of(parts$p.value, cuts))
  parts$note <- paste0(parts$note, " Stars: the row's own two-sided test of ", parts$hypothesis, "; ",
                       stars_text(cuts), ".")
  parts
}

stars_of <- function(p, cuts) {
  count <- rowSums(outer(p, cuts, `<=`))
  strrep("*", ifelse(is.na(count), 0, count))
}

stars_text <- function(cuts) {
  limits <- vapply(cuts, format, "", digits = 3)
  paste(strrep("*", seq_along(cuts)), "p <=", limits, collapse = ", ")
}

# Every row is followed by one with its standard error in parentheses; the column SE goes. Headings have none.
errors_below <- function(parts) {
  table <- parts$table
  below <- as.data.frame(lapply(table, function(column) rep("", length(column))), optional = TRUE)
  below[[parts$estimate]] <- ifelse(table$SE %in% c("", "-"), "", paste0("(", table$SE, ")"))
  both <- rbind(table, below)[order(rep(seq_len(nrow(table)), 2L)), ]
  both <- both[rowSums(both != "") > 0, ]
  both$SE <- NULL
  parts$table <- both
  parts$note <- sprintf("%s In parentheses: standard errors%s.", parts$note,
                        if (is.null(parts$error)) "" else paste0(" (", parts$error, ")"))
  parts
}

pick_columns <- function(table, columns, call) {
  if (!is.character(columns)) abort_input("{.arg columns} must be headings in quotes.", call = call)
  check_columns(unname(columns), table, "columns", call)
  shown <- table[unname(columns)]
  renamed <- names(columns)
  if (!is.null(renamed)) names(shown) <- ifelse(nzchar(renamed), renamed, unname(columns))
  shown
}

# What a rendered table of x holds: table (strings), caption, note; first, the heading of the row labels; keys and
# levels, what the rows are called in the data; and where rows have a p-value: estimate (its heading) and p.value.
table_parts <- function(x, number = column_text) UseMethod("table_parts")

#' @exportS3Method
table_parts.twin_groups <- function(x, number = column_text) {
  rows <- x$rows
  numeric <- rows$kind %in% c("numeric", "date")
  middle <- rep(FALSE, nrow(rows))
  if (!is.null(rows$shown)) middle <- rows$shown == "median"
  value <- function(arm) {
    values <- ifelse(middle, if (any(middle)) rows[[paste0("median_", arm)]], rows[[paste0("mean_", arm)]])
    ifelse(numeric, value_text(values, rows$kind, number), share_text(values, number))
  }
  spread <- function(arm) {
    at <- function(part) value_text(rows[[paste0(part, "_", arm)]], rows$kind, number)
    ifelse(!numeric, "", ifelse(middle, if (any(middle)) sprintf("[%s, %s]", at("q25"), at("q75")),
                                own_digits(number)(rows[[paste0("sd_", arm)]])))
  }
  word <- if (any(middle)) "spread" else "sd"
  table <- data.frame(labelled_rows(rows, x$labels), value("treated"), spread("treated"), value("control"),
                      spread("control"))
  names(table) <- c("Covariate", "Treated", paste(word, "treated"), "Control", paste(word, "control"))
  if (x$overall) {
    table$Both <- ifelse(numeric, value_text(rows$mean_all, rows$kind, number), share_text(rows$mean_all, number))
  }
  table$Difference <- difference_cells(rows$difference, rows$kind, number)
  table$SE <- difference_cells(rows$std.error, rows$kind, number)
  table$N <- count_text(rows$n)
  table$SMD <- number(rows$smd)
  if (!is.null(x$by)) table <- cbind(Group = if (x$several) rows$group else by_words(x$by, rows$group), table)
  parts <- list(
    table = table, caption = sprintf("Treated and control units by %s", x$treatment), first = "Covariate",
    keys = rows$covariate, levels = rows$level, estimate = "Difference", p.value = own_p(rows, x$tests),
    error = groups_error(x), hypothesis = "no difference",
    note = paste0(
      if (x$several) paste0(several_groups_text(x), " Units: ", paste(vapply(names(x$sizes), function(name) {
        sprintf("%s %s treated, %s control", name, count_text(x$sizes[[name]][1L]), count_text(x$sizes[[name]][2L]))
      }, ""), collapse = "; "), ". ") else
        sprintf("Treated: %s is %s (%s units); control: %s (%s units). ", x$treatment, x$levels[["treated"]],
                count_text(x$counts[["treated"]]), x$levels[["control"]], count_text(x$counts[["control"]])),
      if (!any(middle)) "Means" else if (all(middle[numeric])) "Medians with quartiles" else
        "Means with sd, or medians with quartiles",
      sprintf(paste(", or shares of levels%s. Difference is treated minus control%s, of shares in percentage points",
                    "(pp); SMD divides it by the %s."), c(
        none = "", sampling = ", with sampling weights", design = ", with each design's weights")[[x$weighted]],
              if (any(middle)) ", of means" else "", reference_words[[x$reference]])
    )
  )
  label <- unname(x$labels[rows$covariate])
  if (x$tests) with_factor_tests(parts, rows, ifelse(nzchar(label), label, rows$covariate)) else parts
}

# The test of a row's own difference: that of all levels together stands with the factor.
own_p <- function(rows, tests) {
  own <- 2 * stats::pnorm(-abs(rows$difference / rows$std.error))
  if (tests) ifelse(rows$kind == "level", own, rows$p.value) else own
}

# A column p, in which the joint test of a factor's levels stands on a row above them, with the heading of that row.
# parts$row: which of the rows each line stands for, a heading for its first level.
with_factor_tests <- function(parts, rows, headings) {
  parts$row <- seq_len(nrow(rows))
  parts$table$p <- ifelse(rows$kind == "level", "", p_text(rows$p.value))
  heads <- which(rows$kind == "level" & !duplicated(paste(rows$group, rows$covariate, sep = "\r")))
  if (length(heads) == 0L) return(parts)
  place <- order(c(seq_len(nrow(rows)), heads - 0.5))
  above <- parts$table[heads, ]
  above[setdiff(names(above), c("Group", parts$first))] <- ""
  above[[parts$first]] <- headings[heads]
  above$p <- p_text(rows$p.value[heads])
  parts$table <- rbind(parts$table, above)[place, ]
  parts$keys <- c(parts$keys, rows$covariate[heads])[place]
  parts$levels <- c(parts$levels, rep(NA, length(heads)))[place]
  parts$p.value <- c(parts$p.value, rep(NA, length(heads)))[place]
  parts$row <- c(parts$row, heads)[place]
  parts$note <- paste0(parts$note, " p: of a factor's name, all of its levels together.")
  parts
}

groups_error <- function(x) {
  by <- if (is.null(x$cluster)) "robust" else sprintf("clustered by %s", x$cluster)
  if (is.null(x$stratum)) by else sprintf("%s within %s", by, x$stratum)
}

#' @exportS3Method
table_parts.twin_balance <- function(x, number = column_text) {
  table <- balance_table(x, number)
  first <- x$rows[x$rows$sample == "before", ]
  table$Covariate <- labelled_rows(first, x$labels)
  if (!is.null(x$by)) table <- cbind(Group = ifelse(is.na(first$group), "all", by_words(x$by, first$group)), table)
  list(table = table, caption = sprintf("Balance: %s", x$design), first = "Covariate", keys = first$covariate,
       levels = first$level, note = paste(verdict_text(x), balance_note(x)))
}

#' @exportS3Method
table_parts.twin_weights <- function(x, number = column_text) {
  last <- x$rows[x$rows$sample == names(x$weights)[length(x$weights)], ]
  table <- weight_table(x, number)
  plain_parts(table, "Arm", paste("Weights:", x$design), weight_sentence(x, last))
}

#' @exportS3Method
table_parts.twin_responses <- function(x, number = column_text) {
  table <- response_table(x, number)
  table$Covariate <- labelled_rows(x$rows, x$labels)
  plain_parts(table, "Covariate", sprintf("Units with known %s: %s", x$outcome, x$design),
              paste(response_sentences(x), collapse = " "))
}

#' @exportS3Method
table_parts.twin_calibration <- function(x, number = column_text) {
  plain_parts(calibration_table(x, number), "Scores", paste("Calibration of the score:", x$score),
              paste(calibration_sentence(x), auc_sentence(x$auc)))
}

#' @exportS3Method
table_parts.twin_scores <- function(x, number = column_text) {
  plain_parts(scores_table(x, number), "Score", scores_title(x), scores_note(x))
}

# Tables whose rows have neither levels nor p-values.
plain_parts <- function(table, first, caption, note) {
  list(table = table, caption = caption, first = first, keys = table[[first]], levels = rep(NA, nrow(table)),
       note = note)
}

#' @exportS3Method
table_parts.twin_effect <- function(x, number = column_text) {
  rows <- generics::tidy(x)
  means <- is_level_term(rows$term)
  list(table = effect_table(x, number), first = "Quantity", keys = rows$term, levels = rep(NA, nrow(rows)),
       estimate = "Estimate", p.value = ifelse(means, NA, rows$p.value),
       caption = sprintf("Effect of %s on %s", x$study$roles$treatment, outcome_phrase(x)), hypothesis = "no effect",
       note = paste0(effect_sentence(x), " Difference is treated minus control. Standard errors: ", x$inference, ".",
                     missing_sentence(x), if (is_unbalanced(x)) paste0(" ", imbalance_sentence(x)),
                     spaced(caution_sentence(x))))
}

#' @exportS3Method
table_parts.twin_effects <- function(x, number = column_text) {
  table <- several_table(x, number)
  rows <- generics::tidy(x)
  rows <- rows[rows$term == "difference", ]
  list(table = table, first = names(table)[seq_along(x$labels)], keys = names(x), levels = rep(NA, nrow(table)),
       estimate = "Difference", p.value = rows$p.value, caption = several_title(x), hypothesis = "no effect",
       note = paste(c(sprintf("Differences are %s.", direction_text(x)), several_sentences(x), several_balance(x),
                            paste0("Standard errors: ", several_inference(x), "."),
                      do.call(caution_sentence, unname(x$effects))), collapse = " "))
}

#' @exportS3Method
table_parts.twin_comparison <- function(x, number = column_text) {
  first <- x$effects[[1L]]
  rows <- generics::tidy(x)
  list(
    table = comparison_table(x, number), caption = comparison_title(x), first = "Effect",
    keys = rows$label, levels = rep(NA, nrow(rows)), estimate = "Estimate", p.value = rows$p.value,
    hypothesis = "no effect",
    note = paste(c(if (!inherits(first, "twin_did")) {
      sprintf("The %s, treated (%s) against control (%s).", term_text(x$term), first$study$levels[["treated"]],
              first$study$levels[["control"]])
    }, comparison_sentences(x), comparison_errors(x), do.call(caution_sentence, unname(x$effects))), collapse = " ")
  )
}

# Of which kind the standard errors of each effect are, and whose outcomes are missing.
comparison_errors <- function(x) {
  kinds <- vapply(x$effects, `[[`, "", "inference")
  missing <- vapply(x$effects, function(effect) if (is.null(effect$counts)) 0 else effect$counts[["missing"]], 0)
  c(if (length(unique(kinds)) == 1L) sprintf("Standard errors: %s.", kinds[[1L]]) else
      sprintf("Standard errors: %s.", paste(names(kinds), kinds, sep = ": ", collapse = "; ")),
    if (any(missing > 0)) left_out_sentence(missing))
}

#' @exportS3Method
table_parts.twin_probe_pairs <- function(x, number = column_text) {
  rows <- x$rows
  table <- data.frame(Gamma = format(rows$gamma), `least p` = p_text(rows$p_low),
                      `greatest p` = p_text(rows$p_high), check.names = FALSE)
  if (has_shifts(x)) {
    table$`shift estimate` <- paste(number(rows$estimate_low), "to", number(rows$estimate_high))
    table$limits <- paste(number(rows$conf_low), "to", number(rows$conf_high))
  }
  list(table = table, caption = paste("Hidden bias in pairs or sets:", test_text(x$facts)), first = "Gamma",
       keys = table$Gamma, levels = rep(NA, nrow(rows)), note = probe_verdict(x))
}

#' @exportS3Method
table_parts.twin_probe_ratio <- function(x, number = column_text) {
  table <- data.frame(Quantity = x$rows$quantity, value = number(x$rows$value),
                      `as risk ratio` = number(x$rows$risk_ratio), `E-value` = number(x$rows$e_value),
                      check.names = FALSE)
  names(table)[2L] <- scale_words[[x$facts$scale]]
  list(table = table, caption = "Hidden bias on the ratio scale", first = "Quantity", keys = x$rows$quantity,
       levels = rep(NA, nrow(x$rows)), note = probe_verdict(x))
}
