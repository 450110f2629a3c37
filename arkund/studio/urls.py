"""Every address of the application."""

from django.contrib.auth.views import LoginView, LogoutView
from django.urls import path, re_path, register_converter

from arkund.studio.pages import home, jobs
from arkund.studio.pages.later import Later
from arkund.studio.steps import STEPS

STEP = "(?P<step>" + "|".join(STEPS) + ")"
account, actions, archives = Later("account"), Later("actions"), Later("archives")
editing, logbook = Later("editing"), Later("logbook")
prints, reckoning, rig = Later("prints"), Later("reckoning"), Later("rig")
sounds, steps, uploads = Later("sounds"), Later("steps"), Later("uploads")


class MicId:
    """A mic's id in an address."""

    regex = "[-_a-z0-9]{1,60}"

    def to_python(self, value: str) -> str:
        """Return the id."""
        return value

    def to_url(self, value: str) -> str:
        """Return the id."""
        return value


register_converter(MicId, "mic")
S = "s/<int:session_id>"

urlpatterns = [
    path("", home.sessions, name="home"),
    path("favicon.ico", prints.empty),
    path("login/", LoginView.as_view(template_name="login.html"), name="login"),
    path("logout/", LogoutView.as_view(), name="logout"),
    path("load", uploads.load, name="load"),
    path("templates/<int:template_id>/rename", home.rename_template, name="rename-template"),
    path("templates/<int:template_id>/remove", home.remove_template, name="remove-template"),
    path("jobs", jobs.jobs, name="jobs"),
    path("jobs/<int:job_id>", jobs.job, name="job"),
    path("jobs/<int:job_id>/cancel", jobs.cancel, name="cancel"),
    path("jobs/<int:job_id>/retry", jobs.retry, name="retry"),
    path("jobs/<int:job_id>/dismiss", jobs.dismiss, name="dismiss"),
    path(f"{S}/remove", actions.remove, name="remove"),
    path(f"{S}/moves", actions.move, name="move"),
    path(f"{S}/rig", rig.change, name="rig"),
    path(f"{S}/undo", actions.undo, name="undo"),
    path(f"{S}/redo", actions.redo, name="redo"),
    path(f"{S}/decide", actions.decide, name="decide"),
    path(f"{S}/propose", actions.propose, name="propose"),
    path(f"{S}/work-out", actions.work_out, name="work-out"),
    path(f"{S}/keep-style", actions.keep_style, name="keep-style"),
    path(f"{S}/use-style", actions.use_style, name="use-style"),
    path(f"{S}/take", actions.choose_take, name="take"),
    path(f"{S}/quantise", editing.quantise, name="quantise"),
    path(f"{S}/stroke", editing.stroke, name="stroke"),
    path(f"{S}/line", editing.line, name="line"),
    path(f"{S}/tempo", editing.tempo, name="tempo"),
    path(f"{S}/comp", editing.comp, name="comp"),
    path(f"{S}/take-in", editing.take_in, name="take-in"),
    path(f"{S}/template", editing.template, name="template"),
    path(f"{S}/null", editing.null, name="null"),
    path(f"{S}/around", editing.around, name="around"),
    re_path(r"^s/(?P<session_id>\d+)/hits\.(?P<ending>mid|csv|json)$", editing.export, name="export"),
    path(f"{S}/hit", actions.change_hit, name="hit"),
    path(f"{S}/shelves", editing.shelves, name="shelves"),
    path(f"{S}/take-over", editing.take_over, name="take-over"),
    path(f"{S}/shelf/<mic:capture>", sounds.kept_hit, name="kept-hit"),
    path(f"{S}/sums/<mic:mic>/<slug:what>", sounds.sums, name="sums"),
    path(f"{S}/masking", sounds.masking, name="masking"),
    path(f"{S}/music", sounds.music, name="music"),
    path(f"{S}/raised/<mic:path>", sounds.raised, name="raised"),
    path(f"{S}/dial", sounds.dial, name="dial"),
    path(f"{S}/audition", sounds.audition, name="audition"),
    path(f"{S}/hits/<slug:piece>", sounds.hits, name="hits"),
    path(f"{S}/average-hit/<mic:mic>", sounds.average_hit, name="average-hit"),
    path(f"{S}/peaks/<mic:mic>/<int:level>", sounds.peaks, name="peaks"),
    path(f"{S}/song-peaks/<mic:mic>/<int:level>", sounds.song_peaks, name="song-peaks"),
    path(f"{S}/song-peaks/<mic:mic>/<int:level>/<int:block>", sounds.song_peaks, name="song-samples"),
    path(f"{S}/whole/<str:key>/<str:output>/<int:level>", sounds.whole_peaks, name="whole-peaks"),
    path(f"{S}/print-now", prints.start, name="print-now"),
    path(f"{S}/prints/<int:print_id>.zip", prints.archive, name="print-archive"),
    path(f"{S}/prints/<int:print_id>/<str:name>", prints.file, name="print-file"),
    path(f"{S}/archive", archives.start, name="archive"),
    path(f"{S}/archive/<int:job_id>.zip", archives.fetch, name="archive-file"),
    path(f"{S}/logbook/", logbook.logbook, name="logbook"),
    path(f"{S}/account/", account.page, name="account"),
    path(f"{S}/account/data", account.data, name="account-data"),
    path(f"{S}/revert", account.revert, name="revert"),
    path(f"{S}/sheet/", logbook.sheet, name="sheet"),
    path(f"{S}/ear/", logbook.ear, name="ear"),
    path(f"{S}/reckon/", reckoning.page, name="reckon"),
    path(f"{S}/reckon/<slug:sheet>", reckoning.answer, name="reckoned"),
    re_path(rf"^s/(?P<session_id>\d+)/{STEP}/$", steps.page, name="step"),
    re_path(rf"^s/(?P<session_id>\d+)/{STEP}/data$", steps.data, name="data"),
]
