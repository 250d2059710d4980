using Imbrek.Server;
using Imbrek.Server.Features.Runs;
using NodaTime.Text;
using Npgsql;

namespace Imbrek.Demo;

/// <summary>The simulated world as a guest of the server: it leads the clock, and is acted on through its drivers as any engine is.</summary>
internal sealed class DemoGuest : IGuest
{
    private readonly DemoOptions options;
    private WorldHost? host;

    public DemoGuest(string[] args)
    {
        var given = new ConfigurationBuilder().AddCommandLine(args).Build();
        options = new DemoOptions(
            given["demo"] is { Length: > 0 } folder ? Path.GetFullPath(folder) : null,
            given.GetValue("demo-days", 35),
            given["demo-now"] is { Length: > 0 } handedOver ? InstantPattern.General.Parse(handedOver).GetValueOrThrow() : null);
    }

    public bool IsDemo => options.Folder is not null;

    public bool SetsThePace => IsDemo;

    public double Pace => host?.Pace ?? 1;

    public bool Ready => !IsDemo || host?.World is not null;

    public void Add(IServiceCollection services, bool describing)
    {
        services.AddSingleton(options);
        services.AddSingleton<WebhookReceiver>();
        services.AddSingleton<WorldFamily>();
        services.AddSingleton<WorldHost>();
        if (IsDemo && !describing)
        {
            services.AddSingleton<IDriverFamily>(s => s.GetRequiredService<WorldFamily>());
            services.AddHostedService(s => host = s.GetRequiredService<WorldHost>());
        }
    }

    public void Map(IEndpointRouteBuilder app)
    {
        WorldEndpoints.Map(app);
        WebhookReceiver.Map(app, IsDemo ? Environment.GetEnvironmentVariable("IMBREK_WEBHOOK_SECRET") : null);
    }

    public async Task PrepareAsync(IServiceProvider services, NpgsqlDataSource source, Action<string> say, CancellationToken cancel)
    {
        await DemoSeed.WorldAsync(source, options.Folder!, options, say, cancel);
        services.GetRequiredService<WorldHost>().OpenEarly();
    }
}
