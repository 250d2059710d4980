using System.Text.Json.Serialization;
using Imbrek.Data;
using Imbrek.Server.Features.Changes;
using Imbrek.Server.Features.Copies;
using Imbrek.Server.Features.Database;
using Imbrek.Server.Features.Dispatch;
using Imbrek.Server.Features.Drills;
using Imbrek.Server.Features.Evidence;
using Imbrek.Server.Features.Files;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.Features.Inventory;
using Imbrek.Server.Features.Live;
using Imbrek.Server.Features.Metrics;
using Imbrek.Server.Features.Moves;
using Imbrek.Server.Features.NewDatabase;
using Imbrek.Server.Features.Notices;
using Imbrek.Server.Features.People;
using Imbrek.Server.Features.Plans;
using Imbrek.Server.Features.Recover;
using Imbrek.Server.Features.Replicas;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Runs.AdHoc;
using Imbrek.Server.Features.Runs.ApplyLog;
using Imbrek.Server.Features.Runs.Backup;
using Imbrek.Server.Features.Runs.Change;
using Imbrek.Server.Features.Runs.CleanUp;
using Imbrek.Server.Features.Runs.CopyElsewhere;
using Imbrek.Server.Features.Runs.Drill;
using Imbrek.Server.Features.Runs.DumpedMove;
using Imbrek.Server.Features.Runs.HoldReplica;
using Imbrek.Server.Features.Runs.IntegrityCheck;
using Imbrek.Server.Features.Runs.JointDrill;
using Imbrek.Server.Features.Runs.LookAtReplica;
using Imbrek.Server.Features.Runs.MendReplica;
using Imbrek.Server.Features.Runs.Move;
using Imbrek.Server.Features.Runs.NewDatabase;
using Imbrek.Server.Features.Runs.PlanChange;
using Imbrek.Server.Features.Runs.ReadBack;
using Imbrek.Server.Features.Runs.Rehearsal;
using Imbrek.Server.Features.Runs.Removal;
using Imbrek.Server.Features.Runs.RemoveReplica;
using Imbrek.Server.Features.Runs.Restore;
using Imbrek.Server.Features.Runs.RestoreInPlace;
using Imbrek.Server.Features.Runs.RestoreTogether;
using Imbrek.Server.Features.Runs.SecondDatabase;
using Imbrek.Server.Features.Runs.SetUpReplica;
using Imbrek.Server.Features.Runs.ShipLog;
using Imbrek.Server.Features.Runs.TakeOver;
using Imbrek.Server.Features.Runs.TemporaryCopy;
using Imbrek.Server.Features.SecondDatabase;
using Imbrek.Server.Features.SignIn;
using Imbrek.Server.Features.Timetable;
using Imbrek.Server.Features.Versions;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.Authentication.Cookies;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.AspNetCore.HttpOverrides;
using Microsoft.AspNetCore.HttpsPolicy;
using Microsoft.AspNetCore.Identity;
using Microsoft.AspNetCore.ResponseCompression;
using NodaTime;
using NodaTime.Serialization.SystemTextJson;
using OpenTelemetry.Metrics;
using OpenTelemetry.Resources;

namespace Imbrek.Server;

/// <summary>The server: everything but the world of a demo, which is a guest.</summary>
internal static class ImbrekServer
{
    /// <summary>Runs the server until it is stopped.</summary>
    /// <param name="args">Command line.</param>
    /// <param name="families">The engines it can act on.</param>
    /// <param name="guest">What else lives in this process; null for nothing, as in a real installation.</param>
    /// <returns>The exit code.</returns>
    public static async Task<int> RunAsync(string[] args, IReadOnlyList<IEngineFamily> families, IGuest? guest = null)
    {
        var builder = WebApplication.CreateBuilder(new WebApplicationOptions
        {
            Args = args,
            WebRootPath = Environment.GetEnvironmentVariable("IMBREK_WEB") ?? "wwwroot",
        });
        var describing = System.Reflection.Assembly.GetEntryAssembly()?.GetName().Name == "GetDocument.Insider";
        var connection = builder.Configuration["connection"] ?? Environment.GetEnvironmentVariable("IMBREK_CONNECTION");
        if (connection is null && !describing)
        {
            Console.Error.WriteLine("imbrek: say which PostgreSQL to use: --connection \"Host=…;Database=…;Username=…\"");
            return 2;
        }

        if (guest is null && builder.Configuration["demo"] is { Length: > 0 })
        {
            Console.Error.WriteLine("imbrek: this program shows no demo; ./imbrek demo starts the one that does");
            return 2;
        }

        var lives = guest ?? new NoGuest();
        var source = ImbrekDatabase.Source(connection ?? "Host=127.0.0.1");

        // Begun while the services are made: neither needs the other.
        var migrated = describing ? Task.CompletedTask : Task.Run(() => ImbrekDatabase.MigrateAsync(source));
        builder.Logging.AddFilter("Microsoft.EntityFrameworkCore", LogLevel.Warning).AddFilter("Microsoft.AspNetCore", LogLevel.Warning)
            // Keys of cookies lie in PostgreSQL as everything else does; who can read them there can read all there is.
            .AddFilter("Microsoft.AspNetCore.DataProtection", LogLevel.Error);
        builder.Services.AddSingleton(source);
        builder.Services.AddDbContextPool<ImbrekContext>(o => ImbrekDatabase.Configure(o, source));
        var protection = builder.Services.AddDataProtection().SetApplicationName("imbrek");
        if (!describing)
        {
            protection.PersistKeysToDbContext<ImbrekContext>();
        }

        builder.Services.AddIdentity<Person, IdentityRole>(o =>
        {
            o.Password.RequiredLength = 12;
            o.Password.RequireNonAlphanumeric = false;
            o.Password.RequireUppercase = false;
            o.Password.RequireDigit = false;
        }).AddEntityFrameworkStores<ImbrekContext>().AddClaimsPrincipalFactory<PersonClaims>();
        builder.Services.ConfigureApplicationCookie(o =>
        {
            o.Cookie.Name = "imbrek";
            o.Cookie.HttpOnly = true;
            o.Cookie.SameSite = SameSiteMode.Strict;
            o.Cookie.SecurePolicy = CookieSecurePolicy.SameAsRequest;
            o.ExpireTimeSpan = SessionStore.Idle;
            o.Events.OnRedirectToLogin = c => Problems.WriteAsync(c.HttpContext, 401, "not-signed-in", "", "Sign in first.");
            o.Events.OnRedirectToAccessDenied = c => Problems.WriteAsync(c.HttpContext, 403, "not-allowed", "", "Your role does not allow this.");
        });
        builder.Services.AddSingleton(TimeProvider.System);
        builder.Services.AddSingleton<SessionStore>();
        builder.Services.AddSingleton<SignInThrottle>();
        builder.Services.AddSingleton<SignInEndpoints.UnknownPerson>();
        builder.Services.AddSingleton<IPasswordHasher<Person>, PasswordHasher<Person>>();
        builder.Services.AddOptions<CookieAuthenticationOptions>(IdentityConstants.ApplicationScheme).Configure<SessionStore>((o, sessions) => o.SessionStore = sessions);
        builder.Services.AddAuthentication(o => o.DefaultScheme = o.DefaultAuthenticateScheme = o.DefaultChallengeScheme = o.DefaultForbidScheme = TokenAuthentication.Either)
            .AddScheme<AuthenticationSchemeOptions, TokenAuthentication>(TokenAuthentication.Name, null)
            .AddPolicyScheme(TokenAuthentication.Either, null, o => o.ForwardDefaultSelector = TokenAuthentication.SchemeOf);
        builder.Services.AddAuthorization(o =>
        {
            o.AddPolicy(Roles.SessionOnly, p => p.RequireAssertion(c => !TokenAuthentication.IsToken(c.User)));
            o.AddPolicy(Roles.TokenOnly, p => p.RequireAssertion(c => TokenAuthentication.IsToken(c.User)));
            foreach (var role in Roles.All)
            {
                o.AddPolicy(role, p => p.RequireAuthenticatedUser().RequireRole(Roles.Satisfying(role)));
            }

            // Whatever forgets to say which role it needs needs the highest.
            o.FallbackPolicy = o.GetPolicy(Roles.Administer);
        });
        builder.Services.AddAntiforgery(o =>
        {
            o.HeaderName = "X-Imbrek-Token";
            o.Cookie.Name = "imbrek-token";
            o.Cookie.SecurePolicy = CookieSecurePolicy.SameAsRequest;
        });
        builder.Services.AddProblemDetails();
        builder.Services.Configure<RouteHandlerOptions>(o => o.ThrowOnBadRequest = true);
        builder.Services.AddExceptionHandler<Problems>();
        builder.Services.ConfigureHttpJsonOptions(o =>
        {
            o.SerializerOptions.NumberHandling = JsonNumberHandling.Strict;
            o.SerializerOptions.Converters.Add(new InstantInBounds());
            o.SerializerOptions.ConfigureForNodaTime(DateTimeZoneProviders.Tzdb);
            o.SerializerOptions.Converters.Add(new JsonStringEnumConverter(System.Text.Json.JsonNamingPolicy.CamelCase));
        });
        builder.Services.AddOpenApi("v1", o => o.AddOperationTransformer((operation, context, _) =>
        {
            // So that a reader of the file, and the walk through all endpoints, knows who may call what.
            var role = context.Description.ActionDescriptor.EndpointMetadata.OfType<NeededRole>().FirstOrDefault()?.Role;
            operation.Extensions ??= new Dictionary<string, Microsoft.OpenApi.IOpenApiExtension>();
            operation.Extensions["x-role"] = new Microsoft.OpenApi.JsonNodeExtension(System.Text.Json.Nodes.JsonValue.Create(role ?? "anonymous"));
            return Task.CompletedTask;
        }).AddSchemaTransformer((schema, context, _) =>
        {
            if (context.JsonTypeInfo.Type == typeof(Instant) || context.JsonTypeInfo.Type == typeof(Instant?))
            {
                schema.Type = context.JsonTypeInfo.Type == typeof(Instant)
                    ? Microsoft.OpenApi.JsonSchemaType.String
                    : Microsoft.OpenApi.JsonSchemaType.String | Microsoft.OpenApi.JsonSchemaType.Null;
                schema.Format = "date-time";
            }

            return Task.CompletedTask;
        }));
        builder.Services.AddResponseCompression(o =>
        {
            o.EnableForHttps = true;
            o.Providers.Add<GzipCompressionProvider>();
            o.MimeTypes = [.. ResponseCompressionDefaults.MimeTypes, "image/svg+xml", "application/jsonl"];
        });
        builder.Services.Configure<Microsoft.AspNetCore.Http.Features.FormOptions>(o => o.MultipartBodyLengthLimit = FileEndpoints.MostBytes);
        builder.WebHost.ConfigureKestrel(o => o.Limits.MaxRequestBodySize = RequestLimits.BodyBytes);
        builder.Services.AddRequestLimits();
        builder.Services.Configure<HstsOptions>(o =>
        {
            o.MaxAge = TimeSpan.FromDays(365);
            o.ExcludedHosts.Clear();
        });
        if (builder.Configuration["behind-proxy"] is { Length: > 0 } proxies)
        {
            // Only what these proxies say of scheme and address is believed.
            builder.Services.Configure<ForwardedHeadersOptions>(o =>
            {
                o.ForwardedHeaders = ForwardedHeaders.XForwardedFor | ForwardedHeaders.XForwardedProto;
                o.KnownProxies.Clear();
                o.KnownIPNetworks.Clear();
                foreach (var proxy in proxies.Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries))
                {
                    o.KnownProxies.Add(System.Net.IPAddress.Parse(proxy));
                }
            });
        }

        builder.Services.AddSingleton<Installation>();
        builder.Services.AddSingleton<ProductMetrics>();
        builder.Services.AddOpenTelemetry().WithMetrics(m => m.AddMeter(ProductMetrics.Name)
            .ConfigureResource(r => r.AddService("imbrek", autoGenerateServiceInstanceId: false))
            .AddView(i => i.Name == ProductMetrics.EvaluationTimeName ? new ExplicitBucketHistogramConfiguration { Boundaries = [0.0001, 0.0003, 0.001, 0.003, 0.01, 0.03, 0.1, 0.3, 1, 3] } : null)
            .AddView(i => i.Name.StartsWith("imbrek.", StringComparison.Ordinal) && i.Name != ProductMetrics.EvaluationTimeName ? new MetricStreamConfiguration { CardinalityLimit = ProductMetrics.MostSeries } : null)
            .AddPrometheusExporter());
        builder.Services.AddSingleton(lives);
        builder.Services.AddSingleton<ProductClock>();
        builder.Services.AddSingleton<IClock>(s => s.GetRequiredService<ProductClock>());
        builder.Services.AddSingleton<FleetState>();
        builder.Services.AddSingleton<LagIntake>();
        builder.Services.AddSingleton<RunHealth>();
        builder.Services.AddSingleton<DesignedState>();
        builder.Services.AddSingleton<FindingsState>();
        builder.Services.AddSingleton<LiveEvents>();
        builder.Services.AddSingleton<Peers>();
        builder.Services.AddSingleton<IDriverFamily, ProductFamily>();
        builder.Services.AddSingleton<Drivers>();
        builder.Services.AddSingleton<RunStore>();
        builder.Services.AddSingleton<IRunKind, RestoreKind>();
        builder.Services.AddSingleton<IRunKind, RestoreInPlaceKind>();
        builder.Services.AddSingleton<IRunKind, RestoreTogetherKind>();
        builder.Services.AddSingleton<IRunKind, MoveKind>();
        builder.Services.AddSingleton<IRunKind, RehearseMoveKind>();
        builder.Services.AddSingleton<IRunKind, DumpedMoveKind>();
        builder.Services.AddSingleton<IRunKind, SecondDatabaseKind>();
        builder.Services.AddSingleton<SecondDatabasePlanning>();
        builder.Services.AddSingleton<IRunKind, RehearsalKind>();
        builder.Services.AddSingleton<IRunKind, TemporaryCopyKind>();
        builder.Services.AddSingleton<IRunKind, RemovalKind>();
        builder.Services.AddSingleton<IRunKind, HoldReplicaKind>();
        builder.Services.AddSingleton<IRunKind, SetUpReplicaKind>();
        builder.Services.AddSingleton<IRunKind, MendReplicaKind>();
        builder.Services.AddSingleton<IRunKind, RemoveReplicaKind>();
        builder.Services.AddSingleton<IRunKind, LookAtReplicaKind>();
        builder.Services.AddSingleton<IRunKind, TakeOverKind>();
        builder.Services.AddSingleton<IRunKind, DrillRunKind>();
        builder.Services.AddSingleton<IRunKind, JointDrillKind>();
        builder.Services.AddSingleton<IRunKind, PlanChangeKind>();
        builder.Services.AddSingleton<IRunKind, AdHocKind>();
        builder.Services.AddSingleton<IRunKind, ApplyLogKind>();
        builder.Services.AddSingleton<IRunKind, RehearseChangeKind>();
        builder.Services.AddSingleton<IRunKind, ChangeDayKind>();
        builder.Services.AddSingleton<IFindingSource, DrillBook>();
        builder.Services.AddScoped<ChangeBook>();
        builder.Services.AddSingleton<VersionBook>();
        builder.Services.AddSingleton<IFindingSource>(s => s.GetRequiredService<VersionBook>());
        builder.Services.AddSingleton<InventoryBook>();
        builder.Services.AddSingleton<IFindingSource>(s => s.GetRequiredService<InventoryBook>());
        builder.Services.AddSingleton<CopyEnds>();
        builder.Services.AddSingleton<IFindingSource>(s => s.GetRequiredService<CopyEnds>());
        builder.Services.AddSingleton<IRunKind, NewDatabaseKind>();
        builder.Services.AddSingleton<FleetChanges>();
        builder.Services.AddSingleton<PlanMembers>();
        builder.Services.AddSingleton<ReplicaBook>();
        builder.Services.AddScoped<ReplicaActions.Acting>();
        builder.Services.AddScoped<RunDecisions>();
        builder.Services.AddScoped<NewRuns>();
        builder.Services.AddScoped<DrillPlanning>();
        builder.Services.AddScoped<JointDrillPlanning>();
        builder.Services.AddSingleton<IRunKind, BackupKind>();
        builder.Services.AddSingleton<IRunKind, ReadBackKind>();
        builder.Services.AddSingleton<IRunKind, CopyElsewhereKind>();
        builder.Services.AddSingleton<IRunKind, CleanUpKind>();
        builder.Services.AddSingleton<IRunKind, IntegrityCheckKind>();
        builder.Services.AddSingleton<IRunKind, ShipLogKind>();
        builder.Services.AddSingleton<Runner>();
        builder.Services.AddSingleton<RunWorker>();
        builder.Services.AddSingleton<Dispatcher>();
        if (!describing)
        {
            builder.Services.AddHostedService(s => s.GetRequiredService<Peers>());
            builder.Services.AddHostedService(s => s.GetRequiredService<RunWorker>());
            if (!lives.SetsThePace)
            {
                builder.Services.AddHostedService<RealPace>();
            }

            builder.Services.AddHostedService<HeadWriter>();
            builder.Services.AddHostedService<DatedDrillReminders>();
            builder.Services.AddHostedService(s => s.GetRequiredService<CopyEnds>());
            builder.Services.AddHostedService<CopyRounds>();
            builder.Services.AddHostedService<InventoryRounds>();
            if ((Environment.GetEnvironmentVariable("IMBREK_WEBHOOK") ?? builder.Configuration["webhook"]) is { Length: > 0 } webhook)
            {
                builder.Services.AddHttpClient<WebhookChannel>(c => (c.Timeout, c.MaxResponseContentBufferSize) = (TimeSpan.FromSeconds(10), 64 * 1024));
                builder.Services.AddSingleton<INoticeChannel>(s => new WebhookChannel(() => s.GetRequiredService<IHttpClientFactory>().CreateClient(nameof(WebhookChannel)), new Uri(webhook)));
                builder.Services.AddHostedService<NoticeSender>();
            }
        }

        foreach (var family in families)
        {
            family.Add(builder.Services, describing);
        }

        lives.Add(builder.Services, describing);
        var app = builder.Build();
        if (builder.Configuration["behind-proxy"] is { Length: > 0 })
        {
            app.UseForwardedHeaders();
        }

        app.Use((context, next) =>
        {
            // Set when the answer begins, so that errors carry them too.
            context.Response.OnStarting(() =>
            {
                var headers = context.Response.Headers;

                // Nothing but what ships with the product may run or load.
                headers.ContentSecurityPolicy =
                    "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'";
                headers.XContentTypeOptions = "nosniff";
                headers["Referrer-Policy"] = "no-referrer";
                if (context.Request.Path.StartsWithSegments("/api", StringComparison.Ordinal))
                {
                    headers.CacheControl = "no-store";
                }

                return Task.CompletedTask;
            });
            return next(context);
        });
        app.UseHsts();
        app.UseExceptionHandler();
        app.UseResponseCompression();
        app.UseDefaultFiles();
        app.UseStaticFiles(new StaticFileOptions
        {
            OnPrepareResponse = c => c.Context.Response.Headers.CacheControl =
                c.Context.Request.Path.StartsWithSegments("/assets", StringComparison.Ordinal) ? "public, max-age=31536000, immutable" : "no-cache",
        });
        app.UseRouting();
        app.UseAuthentication();
        app.UseRateLimiter();
        app.UseAuthorization();
        app.UseMiddleware<RequestCheck>();
        app.UseMiddleware<AntiforgeryCheck>();
        app.MapPrometheusScrapingEndpoint("/metrics").RequireAuthorization(Roles.TokenOnly);
        app.MapGet("/healthz", (FleetState fleet) => fleet.Loaded && lives.Ready
            ? Results.Text("ok")
            : Results.Text("starting", statusCode: 503)).AllowAnonymous().ExcludeFromDescription();
        app.MapOpenApi("/api/openapi.json").AllowAnonymous();
        SignInEndpoints.Map(app);
        Invitations.Map(app);
        PeopleEndpoints.Map(app);
        TokenEndpoints.Map(app);
        FleetEndpoints.Map(app);
        FleetParts.Map(app);
        FleetWorksheet.Map(app);
        DatabaseEndpoints.Map(app);
        RecoverEndpoints.Map(app);
        CopyEndpoints.Map(app);
        VersionEndpoints.Map(app);
        InventoryEndpoints.Map(app);
        ChangeEndpoints.Map(app);
        AdHocEndpoints.Map(app);
        MoveEndpoints.Map(app);
        SecondDatabaseEndpoints.Map(app);
        RecoverSeveralEndpoints.Map(app);
        ReplicaEndpoints.Map(app);
        NewDatabaseEndpoints.Map(app);
        DrillEndpoints.Map(app);
        JointDrillEndpoints.Map(app);
        DatedDrillEndpoints.Map(app);
        DueEndpoint.Map(app);
        RunEndpoints.Map(app);
        PlanEndpoints.Map(app);
        PauseEndpoints.Map(app);
        TimetableEndpoints.Map(app);
        NoticeEndpoints.Map(app);
        LedgerEndpoints.Map(app);
        ProofEndpoints.Map(app);
        FileEndpoints.Map(app);
        ClockEndpoint.Map(app);
        foreach (var family in families)
        {
            family.Map(app);
        }

        lives.Map(app);
        LiveEndpoints.Map(app);
        app.Map("/api/{**rest}", (HttpContext c) => Problems.WriteAsync(c, 404, "not-found", "", "There is no such endpoint.")).AllowAnonymous().ExcludeFromDescription();
        app.MapFallbackToFile("index.html").AllowAnonymous();

        try
        {
            if (!describing && await StartAsync() is { } refused)
            {
                Console.Error.WriteLine($"imbrek: {refused}");
                return 2;
            }
        }
        catch (Exception e) when (e is IOException or InvalidOperationException or UnauthorizedAccessException && !app.Lifetime.ApplicationStopping.IsCancellationRequested)
        {
            // Whoever starts it reads what is wrong, not where in our code it was found.
            Console.Error.WriteLine($"imbrek: {e.Message}");
            return 2;
        }

        await app.RunAsync();
        return 0;

        // What must be there before anybody is answered; says why the server must not start.
        async Task<string?> StartAsync()
        {
            await migrated;
            var installation = app.Services.GetRequiredService<Installation>();
            await installation.OpenAsync(lives.IsDemo, app.Lifetime.ApplicationStopping);
            _ = app.Services.GetRequiredService<ProductMetrics>();
            await using (var scope = app.Services.CreateAsyncScope())
            {
                if (await FirstStart.PeopleAsync(scope.ServiceProvider, lives.IsDemo, builder.Configuration.GetValue("end-demo-sign-ins", false)) is { } why)
                {
                    return why;
                }
            }

            if (!lives.IsDemo && await Invitations.ForFirstAsync(source, app.Lifetime.ApplicationStopping) is { } code)
            {
                // On the terminal of whoever starts it, and in no log.
                app.Lifetime.ApplicationStarted.Register(() => Console.Out.WriteLine(
                    $"\nNobody administers this installation yet. Set the administrator's name and password within two days, once, at\n\n    {app.Urls.FirstOrDefault()?.Replace("0.0.0.0", "localhost", StringComparison.Ordinal)}/welcome#{code}\n"));
            }

            foreach (var family in families)
            {
                await family.PrepareAsync(app.Services, app.Lifetime.ApplicationStopping);
            }

            if (lives.IsDemo)
            {
                await lives.PrepareAsync(app.Services, source, Console.WriteLine, app.Lifetime.ApplicationStopping);
            }

            await app.Services.GetRequiredService<RunHealth>().LoadAsync(app.Lifetime.ApplicationStopping);
            return null;
        }
    }
}
