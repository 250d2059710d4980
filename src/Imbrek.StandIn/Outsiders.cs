using Imbrek.Core.Drivers;

namespace Imbrek.StandIn;

/// <summary>
/// Those who act in the world from outside, such as a restore: time stands still while they think rather than wait for the world, so
/// that a fast pace does not count their thinking as hours.
/// </summary>
/// <param name="gate">Serializes all that touches the world.</param>
/// <param name="now">The world's clock, milliseconds.</param>
/// <param name="held">Whether who waited is told only by <see cref="Release"/>: the world keeps what it answers first.</param>
/// <param name="inline">Whether what waited goes on at once, inside the world's own step: history runs in one thread and one order.</param>
internal sealed class Outsiders(Lock gate, Func<long> now, bool held, bool inline)
{
    private readonly HashSet<Action<Exception>> pending = [];
    private readonly List<(Action Tell, Action Lose)> answered = [];
    private bool urgentAnswered;
    private TaskCompletionSource? nobodyThinks;
    private bool over;
    private readonly List<string> engaged = [];
    private int waiting;

    /// <summary>Whether somebody who is engaged does not wait for the world.</summary>
    public bool Think => engaged.Count > waiting;

    /// <summary>Whether time must stand still: somebody thinks, or is to be told something at once.</summary>
    public bool Stop => urgentAnswered || Think;

    /// <summary>Who is engaged now.</summary>
    public IReadOnlyList<string> Engaged
    {
        get
        {
            lock (gate)
            {
                return [.. engaged];
            }
        }
    }

    /// <summary>Somebody acts in the world from now on, until what is returned is disposed of.</summary>
    /// <param name="who">Who it is, for those who wait for them.</param>
    public IDisposable Engage(string who)
    {
        lock (gate)
        {
            engaged.Add(who);
        }

        return new Engagement(this, who);
    }

    /// <summary>Completes when nobody who is engaged thinks any more, or after a time of the wall clock.</summary>
    /// <returns>Whether nobody did in time.</returns>
    public async Task<bool> WhenNobodyThinksAsync(TimeSpan atMost)
    {
        Task quiet;
        lock (gate)
        {
            if (!Think)
            {
                return true;
            }

            quiet = (nobodyThinks ??= new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously)).Task;
        }

        await quiet.WaitAsync(atMost).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        return quiet.IsCompleted;
    }

    /// <summary>
    /// Ends the world for those who wait in it, and for those who will: its time passes no more, and who would wait for that waits for ever. What was answered and not told was not kept: it is not so.
    /// </summary>
    public void End()
    {
        lock (gate)
        {
            over = true;
            foreach (var fail in pending.ToArray())
            {
                fail(Gone());
            }

            foreach (var (_, lose) in answered)
            {
                lose();
            }

            answered.Clear();
        }
    }

    /// <summary>Waits for something of the world.</summary>
    /// <exception cref="DriverGoneException">The world has ended, or ends before what is waited for happened.</exception>
    /// <param name="begin">Begins it, and is given what to call when it is done.</param>
    /// <param name="cancel">Ends the waiting.</param>
    /// <param name="undo">What to do then.</param>
    /// <param name="failing">Is given, first, what to call when it fails.</param>
    /// <param name="urgent">Whether time stands still until who waited has been told; otherwise it may go on to the end of the step.</param>
    /// <returns>When it happened, by the world's clock, milliseconds.</returns>
    public Task<long> Await(Action<Action> begin, CancellationToken cancel, Action? undo = null, Action<Action<Exception>>? failing = null, bool urgent = true)
    {
        var source = new TaskCompletionSource<long>(inline ? TaskCreationOptions.None : TaskCreationOptions.RunContinuationsAsynchronously);
        var settled = false;
        void Fail(Exception e) => Settle(() => source.TrySetException(e));
        void End(Exception e) => Settle(() => source.TrySetException(e), atOnce: true);
        lock (gate)
        {
            if (over)
            {
                throw Gone();
            }

            waiting++;
            pending.Add(End);
            try
            {
                failing?.Invoke(Fail);
                begin(() =>
                {
                    var when = now();
                    Settle(() => source.TrySetResult(when));
                });
            }
            catch when (!settled)
            {
                // It never began: who would have waited goes on thinking, and nobody is counted as waiting for what does not come.
                settled = true;
                pending.Remove(End);
                waiting--;
                throw;
            }

            TellIfNobodyThinks();
        }

        // What waited thinks again from here on: time stands still until it waits anew.
        void Settle(Action complete, bool atOnce = false)
        {
            if (settled)
            {
                return;
            }

            settled = true;
            pending.Remove(End);
            if (held && !atOnce)
            {
                urgentAnswered |= urgent;
                answered.Add((Complete, Lose));
            }
            else
            {
                Complete();
            }

            void Complete()
            {
                waiting--;
                complete();
            }

            void Lose()
            {
                waiting--;
                source.TrySetException(Gone());
            }
        }

        if (!cancel.CanBeCanceled)
        {
            return source.Task;
        }

        var registration = cancel.Register(() =>
        {
            lock (gate)
            {
                undo?.Invoke();
                Settle(() => source.TrySetCanceled(cancel), atOnce: true);
            }
        });
        return source.Task.ContinueWith(
            t =>
            {
                registration.Dispose();
                return t;
            },
            CancellationToken.None,
            TaskContinuationOptions.ExecuteSynchronously,
            TaskScheduler.Default).Unwrap();
    }

    /// <summary>Tells those who waited what came of it; what is told has been kept.</summary>
    public void Release()
    {
        lock (gate)
        {
            urgentAnswered = false;
            foreach (var (tell, _) in answered)
            {
                tell();
            }

            answered.Clear();
        }
    }

    private static DriverGoneException Gone() => new("the world has been let go of");

    private void TellIfNobodyThinks()
    {
        if (!Think)
        {
            nobodyThinks?.TrySetResult();
            nobodyThinks = null;
        }
    }

    private void Leave(string who)
    {
        lock (gate)
        {
            engaged.Remove(who);
            TellIfNobodyThinks();
        }
    }

    private sealed class Engagement(Outsiders outsiders, string who) : IDisposable
    {
        private int ended;

        public void Dispose()
        {
            if (Interlocked.Exchange(ref ended, 1) == 0)
            {
                outsiders.Leave(who);
            }
        }
    }
}
