using Imbrek.Core.Drivers;
using Imbrek.Server.Features.Runs;
using Xunit;

namespace Imbrek.Server.Tests.Acting;

/// <summary>Somebody who waits for a driver is told something, whatever the driver does.</summary>
public class DriverAnswerTests
{
    private static readonly TimeSpan Soon = TimeSpan.FromMilliseconds(30), Long = TimeSpan.FromHours(1);

    private static Task<(string? Answer, string? WhyNone)> AskAsync(TimeSpan patience, Func<CancellationToken, Task<string>> ask, CancellationToken cancel = default) =>
        DriverAnswer.WithinAsync(patience, ask, cancel);

    [Fact]
    public async Task It_answers_or_it_is_said_why_not()
    {
        Assert.Equal(("quay", null), await AskAsync(Long, _ => Task.FromResult("quay")));
        Assert.Equal((null, "the shelf is locked"), await AskAsync(Long, _ => throw new DriverException(DriverProblem.Refused, "the shelf is locked")));
        Assert.Equal((null, "another process can ask, this one cannot"), await AskAsync(Long, _ => throw new DriverGoneException("quay")));
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task One_that_hangs_is_not_waited_for_whether_it_heeds_that_or_not(bool heeds)
    {
        var told = new TaskCompletionSource<string>();
        Assert.Equal((null, "it did not answer within 0 s"), await AskAsync(Soon, c => heeds ? told.Task.WaitAsync(c) : told.Task));
    }

    [Fact]
    public async Task When_whoever_waits_has_gone_nothing_is_said_to_nobody()
    {
        using var gone = new CancellationTokenSource();
        var asking = AskAsync(Long, c => new TaskCompletionSource<string>().Task, gone.Token);
        await gone.CancelAsync();
        await Assert.ThrowsAnyAsync<OperationCanceledException>(() => asking);
    }

    [Fact]
    public async Task What_is_no_answer_of_a_driver_but_our_own_fault_is_not_hidden() =>
        await Assert.ThrowsAsync<InvalidOperationException>(() => AskAsync(Long, _ => throw new InvalidOperationException("a fault")));
}
