package tui

// pagesOf makes the pages, in the order of the footing and the help. The first one
// is open at the start. A page that is added has its line here and its own files.
func pagesOf(d *desk) []page {
	return []page{
		newTasksPage(d),
		newTallyPage(d),
		newOutputPage(d),
		newPlanPage(d),
		newFilesPage(d),
		newTogetherPage(d),
		newHistoryPage(d),
		newValuesPage(d),
		newSurveyPage(d),
		newSievePage(d),
		newDraftPage(d),
		newMarkPage(d),
	}
}
