using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Notices;
using Imbrek.Core.Planning;
using Imbrek.Core.Runs;
using Imbrek.Core.Timetable;
using NodaTime;
using Xunit;
using static Imbrek.Core.Tests.PlanWorlds;

namespace Imbrek.Core.Tests;

/// <summary>Who is told of what runs did: once, with what belongs together in one message.</summary>
public class NoticeTests
{
    private static readonly Plan Nightly = Plan(Task(TaskKind.Full, "Sundays 01:00") with { Window = Duration.FromHours(2) }, Task(TaskKind.Log, "every 15 minutes"));

    private static NoticeBook Book(Plan? plan = null, int databases = 3, params (Id<Plan>, string, Id<Database>)[] failing) =>
        new(Harbour(databases).WithPlans([plan ?? Nightly]), failing);

    private static TaskRun Run(RunState state, double minutes = 10, int database = 0, string task = "Full", string? note = null, string plan = "p") => new()
    {
        Id = TaskRun.IdOf(new(plan), task, new($"d{database}"), Monday, null, null),
        Plan = new(plan),
        Task = task,
        Kind = Enum.Parse<TaskKind>(task),
        Database = new($"d{database}"),
        Due = Monday,
        State = state,
        Started = Monday,
        Ended = state is RunState.Running or RunState.Waiting ? null : Monday + Duration.FromMinutes(minutes),
        ExpectedSeconds = 600,
        Set = state == RunState.Done ? new Id<BackupSet>("s") : null,
        Note = note,
    };

    private static void HearAll(NoticeBook book, params TaskRun[] runs) => Array.ForEach(runs, book.Hear);

    [Fact]
    public void Failures_with_one_cause_are_one_message_that_says_of_what_and_how_often()
    {
        var book = Book(databases: 400);
        for (var i = 0; i < 400; i++)
        {
            book.Hear(Run(RunState.Failed, i / 60.0, i, note: "near holds no more"));
        }

        var told = Assert.Single(book.Changed);
        Assert.Equal(("failed", 400, 400), (told.Kind, told.Count, told.Databases.Count));
        Assert.Equal("P: Full fails: near holds no more", told.Subject);
        Assert.Equal((Monday, Monday + Duration.FromMinutes(399 / 60.0)), (told.First, told.Last));
    }

    [Fact]
    public void Another_cause_is_another_message_and_so_is_the_same_after_an_hour_of_quiet()
    {
        var book = Book();
        HearAll(
            book,
            Run(RunState.Failed, 0, note: "near holds no more"),
            Run(RunState.Failed, 1, note: "sign-in has expired"),
            Run(RunState.Failed, 60, note: "near holds no more"),
            Run(RunState.Failed, 121, note: "near holds no more"));
        Assert.Equal([2, 1, 1], book.Changed.OrderBy(n => n.First).ThenBy(n => n.Subject, StringComparer.Ordinal).Select(n => n.Count));
    }

    [Fact]
    public void One_cause_over_two_plans_is_one_message_to_the_people_of_both()
    {
        var other = Nightly with { Id = new("q"), Name = "Q", Members = new Selection { Databases = [new("d1")] }, Tell = Nightly.Tell with { People = ["night watch"] } };
        var book = new NoticeBook(Harbour(2).WithPlans([Nightly, other]), []);
        HearAll(book, Run(RunState.Failed, note: "near is full"));
        Assert.Equal("P: Full fails: near is full", book.Changed.Single().Subject);
        HearAll(book, Run(RunState.Failed, database: 1, note: "near is full", plan: "q"));
        var told = Assert.Single(book.Changed);
        Assert.Equal(["night watch", "somebody"], told.People);
        Assert.Equal("near is full: 2 tasks fail", told.Subject);
    }

    [Fact]
    public void Failures_that_do_not_say_why_are_not_taken_for_one_cause()
    {
        var book = Book();
        HearAll(book, Run(RunState.Failed), Run(RunState.Failed, task: "Log"), Run(RunState.Failed, database: 1));
        Assert.Equal(["P: Full fails: it does not say why 2", "P: Log fails: it does not say why 1"], book.Changed.Select(n => $"{n.Subject} {n.Count}"));
    }

    [Fact]
    public void The_first_success_after_a_failure_is_told_and_the_second_is_not()
    {
        var book = Book();
        HearAll(book, Run(RunState.Done), Run(RunState.Failed, note: "full"), Run(RunState.Failed, note: "full"), Run(RunState.Done), Run(RunState.Done));
        Assert.Equal(["failed 2", "works again 1"], book.Changed.Select(n => $"{n.Kind} {n.Count}"));
    }

    [Fact]
    public void What_failed_before_the_book_was_opened_works_again_too()
    {
        var book = Book(failing: (new("p"), "Full", new("d0")));
        HearAll(book, Run(RunState.Done), Run(RunState.Done, database: 1));
        Assert.Equal(["d0"], Assert.Single(book.Changed).Databases);
    }

    [Fact]
    public void Another_task_or_database_that_goes_well_does_not_mend_a_failure()
    {
        var book = Book();
        HearAll(book, Run(RunState.Failed, note: "full"), Run(RunState.Done, database: 1), Run(RunState.Done, task: "Log"));
        Assert.Equal("failed", Assert.Single(book.Changed).Kind);
    }

    [Theory]
    [InlineData(119, 0)]
    [InlineData(120, 0)]
    [InlineData(121, 1)]
    public void A_run_that_does_not_end_within_its_window_is_late(double minutes, int told)
    {
        var book = Book();
        book.Hear(Run(RunState.Done, minutes));
        Assert.Equal(told, book.Changed.Count(n => n.Kind == "late"));
    }

    [Fact]
    public void Lateness_is_told_while_it_runs_and_not_again_when_it_ends()
    {
        var book = Book();
        book.Hear(Run(RunState.Running));
        book.Hear(Monday + Duration.FromMinutes(54), _ => Monday);
        Assert.Empty(book.Changed);
        book.Hear(Monday + Duration.FromMinutes(125), _ => Monday);
        book.Hear(Monday + Duration.FromMinutes(135), _ => Monday);
        book.Hear(Run(RunState.Done, 140));
        var late = Assert.Single(book.Changed);
        Assert.Equal((1, "P: Full does not end: its window ended 5 min ago"), (late.Count, late.Subject));
    }

    [Fact]
    public void Silence_is_told_once_until_something_comes_again()
    {
        var book = Book(Nightly with { Tell = Nightly.Tell with { Silence = Duration.FromHours(1) } }, databases: 2);
        var asked = 0;
        void At(double minutes) => book.Hear(Monday + Duration.FromMinutes(minutes), _ =>
        {
            asked++;
            return Monday;
        });
        At(60);
        Assert.Empty(book.Changed);
        At(61);
        At(90);
        Assert.Equal((2, "silent"), (Assert.Single(book.Changed).Count, book.Changed.Single().Kind));
        book.Kept();
        book.Hear(Run(RunState.Done, 95, task: "Log"));
        At(100);
        Assert.Empty(book.Changed);
        At(156);
        Assert.Equal(["d0"], Assert.Single(book.Changed).Databases);
        Assert.Equal(2, asked);
    }

    [Fact]
    public void What_was_told_is_not_told_again_because_a_plan_was_saved()
    {
        var quiet = Nightly with { Tell = Nightly.Tell with { Silence = Duration.FromHours(1) } };
        var book = Book(quiet, databases: 1);
        book.Hear(Monday + Duration.FromHours(2), _ => Monday);
        HearAll(book, Run(RunState.Failed, note: "full"));
        book.Kept();
        book.Fleet = Harbour().WithPlans([quiet with { Name = "P, renamed" }]);
        book.Hear(Monday + Duration.FromHours(2.5), _ => Monday);
        Assert.Empty(book.Changed);
        book.Hear(Run(RunState.Done, task: "Full"));
        Assert.Equal("P, renamed: Full works again", Assert.Single(book.Changed).Subject);
    }

    [Fact]
    public void A_plan_says_what_of_it_is_told_and_to_whom()
    {
        TaskRun[] runs = [Run(RunState.Failed, note: "full"), Run(RunState.Done, 200), Run(RunState.Done) with { Oddity = "3 times larger than usual" }];
        int Told(TellRule tell)
        {
            var book = Book(Nightly with { Tell = tell });
            HearAll(book, runs);
            Assert.All(book.Changed, n => Assert.Equal(tell.People, n.People));
            return book.Changed.Count;
        }

        var all = Nightly.Tell;
        Assert.Equal(4, Told(all));
        Assert.Equal(3, Told(all with { Failure = false }));
        Assert.Equal(3, Told(all with { Lateness = false }));
        Assert.Equal(3, Told(all with { Recovery = false }));
        Assert.Equal(0, Told(all with { People = [] }));
    }

    [Theory]
    [InlineData(RunState.Cancelled)]
    [InlineData(RunState.LeftOut)]
    [InlineData(RunState.Waiting)]
    public void What_somebody_ended_or_left_out_is_no_news(RunState state)
    {
        var book = Book();
        HearAll(book, Run(state, 500), Run(RunState.Failed, plan: "gone"));
        Assert.Empty(book.Changed);
    }

    [Fact]
    public void A_message_grows_after_it_was_kept_and_stands_among_what_changed_again()
    {
        var book = Book();
        book.Hear(Run(RunState.Failed, 0, note: "full"));
        var first = Assert.Single(book.Changed);
        book.Kept();
        Assert.Empty(book.Changed);
        book.Hear(Run(RunState.Failed, 5, 1, note: "full"));
        Assert.Same(first, Assert.Single(book.Changed));
        Assert.Equal(["d0", "d1"], first.Databases);
    }
}
