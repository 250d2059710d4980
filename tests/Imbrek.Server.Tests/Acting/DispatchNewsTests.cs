using Imbrek.Server.Features.Dispatch;
using Xunit;
using Of = Imbrek.Server.Features.Dispatch.DispatchNews.Of;

namespace Imbrek.Server.Tests.Acting;

/// <summary>What the dispatcher is told is looked at once, and never lost, whenever it is told.</summary>
public class DispatchNewsTests
{
    [Fact]
    public void What_is_taken_is_gone_what_was_not_asked_for_stays_and_what_is_told_meanwhile_is_there_again()
    {
        var news = new DispatchNews();
        news.Tell(Of.Plans);
        news.Tell(Of.Plans | Of.Health);
        Assert.Equal(Of.Plans, news.Take(Of.Plans | Of.Runs));
        Assert.Equal(Of.Nothing, news.Take(Of.Plans | Of.Runs));
        news.Tell(Of.Runs);
        Assert.Equal(Of.Runs | Of.Health, news.Take(Of.Plans | Of.Runs | Of.Health));
    }

    [Fact]
    public async Task Who_waits_is_woken_by_what_was_told_before_and_once_however_often_it_was()
    {
        var news = new DispatchNews();
        Parallel.For(0, 1000, _ => news.Tell(Of.Nothing));
        await news.WaitAsync(Timeout.InfiniteTimeSpan, default);
        var waiting = news.WaitAsync(Timeout.InfiniteTimeSpan, default);
        Assert.False(waiting.IsCompleted);
        news.Tell(Of.Runs);
        await waiting;
    }

    [Fact]
    public async Task Whatever_many_tell_while_one_looks_has_been_seen_when_nothing_more_is_told()
    {
        const int Tellers = 4, Each = 50_000;
        var news = new DispatchNews();
        int written = 0, seen = 0;
        void Look()
        {
            if (news.Take(Of.Runs) != 0)
            {
                seen = Volatile.Read(ref written);
            }
        }

        var telling = Enumerable.Range(0, Tellers).Select(_ => Task.Run(() =>
        {
            for (var i = 0; i < Each; i++)
            {
                Interlocked.Increment(ref written);
                news.Tell(Of.Runs);
            }
        })).ToArray();
        var all = Task.WhenAll(telling);
        while (!all.IsCompleted)
        {
            await news.WaitAsync(TimeSpan.FromMilliseconds(50), default);
            Look();
        }

        await all;
        Look();
        Assert.Equal(Tellers * Each, seen);
    }
}
