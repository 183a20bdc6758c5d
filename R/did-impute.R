# Imputation with trends that differ on purpose (core-impute.R): a line in time for each unit or group, and effects of
# further columns, such as one for every coast in every period.

estimate_wide_imputation <- function(panel, y, asked, call) {
  if (is_remote(panel)) refuse_panel_options(if (is.null(asked$trends)) "absorb" else "trends", call)
  cells <- imputed_cells(panel, asked)
  view <- within_view(panel, y, asked)
  since <- if (is.null(view$order)) periods_since(panel) else periods_since(panel)[view$order]
  more <- trend_columns(panel, view, asked, call)
  w <- view$rows$weight * tells_untreated(since, asked)
  told <- has_own_trend(view$rows, w, more$slope)
  shown <- view$rows$weight * is_foretold(since, asked) * told[view$rows$unit]
  fit <- core_untreated_fit(view$rows$columns[, 1L], more$x, view$rows$unit, view$rows$time, view$rows$periods,
                            more$slope, w)
  found <- core_impute_wide(fit, view$rows, view$cohort, nrow(panel$cohorts), w, shown, cells, view$s)
  cells$estimate <- found$estimate
  cells$reason[is.na(found$estimate)] <- "no untreated rows that tell what would have been"
  counts <- cell_counts(panel, ifelse(is.na(y) | !in_view(shown > 0 | since < 0, view), NA, y))
  cells$n_treated <- counts[cbind(cells$cohort, cells$time)]
  cells$n_comparison <- as.double(sum(w > 0))
  gone <- sum(!told & tabulate(view$rows$unit[since >= 0 & view$rows$weight > 0], length(told)) > 0L)
  list(cells = cells, estimate = found$estimate, source = found$source, size = found$size, fixed = TRUE,
       cluster = view$cluster, notes = c(
         aliased_note(view, fit$aliased[view$rows$periods + seq_len(ncol(view$rows$columns) - 1L)]),
         if (gone > 0L) sprintf("%s seen in fewer than two untreated periods left out: nothing tells %s line",
                                plural(gone, if (panel$repeats) "treated unit" else "treated group"),
                                if (gone == 1L) "its" else "their")
       ))
}

# A flag per row of the view as one per row of the panel.
in_view <- function(flag, view) if (is.null(view$order)) flag else replace(flag, view$order, flag)

# Cells under treatment, and those of the periods before it that are held out.
imputed_cells <- function(panel, asked) {
  cells <- plan_cells(panel, utils::modifyList(asked, list(base = "fixed")))
  cells <- cells[is_foretold(cells$event_time, asked), ]
  cells$kind <- ifelse(cells$event_time >= 0, "post", "pre")
  cells[c("base", "reason")] <- list(NA_integer_, NA_character_)
  rownames(cells) <- NULL
  cells
}

# Of periods since treatment: do they tell what is without treatment? are they foretold by those that do?
tells_untreated <- function(since, asked) since < -asked$anticipation - held_out(asked)
is_foretold <- function(since, asked) {
  since >= 0 | (since < -asked$anticipation & since >= -asked$anticipation - held_out(asked))
}

# Which units have the untreated periods that a level, or a line, needs.
has_own_trend <- function(rows, w, slope) {
  known <- w > 0
  periods <- core_group_codes(rows$unit[known], rows$time[known])
  count <- tabulate(rows$unit[known][!duplicated(periods)], max(rows$unit))
  count >= if (is.null(slope)) 1L else 2L
}
